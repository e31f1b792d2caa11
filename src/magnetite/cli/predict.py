"""`magnetite predict`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import FullScaleOption, load, note, share_of


def run(
    folder: Annotated[
        Path, typer.Argument(metavar="RUN", help="Folder of a run that sweeps a codec.")
    ],
    pictures: Annotated[
        list[Path], typer.Argument(metavar="PICTURE…", help="New pictures, clean ones.")
    ],
    need: Annotated[
        str,
        typer.Option(help="A metric with its bound, as in 'ssim>=0.95'.", metavar="METRIC>=VALUE"),
    ],
    confidence: Annotated[str, typer.Option(help="Of the interval.", metavar="SHARE")] = "90%",
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """The interval holds for pictures of the kind of the run's references, taken as they were."""
    from magnetite.experiment.front import predict

    share = share_of("--confidence", confidence)
    new = [load(path, full_scale) for path in pictures]
    made = predict(folder, new, need, confidence=share)
    emit(format, Output([made.table()]))
    for words in made.notes:
        note(words)
