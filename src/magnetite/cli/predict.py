"""`magnetite predict`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import FullScaleOption, load, note, share_of
from magnetite.core.errors import InputError


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
    from magnetite.core.curves.study import activity_of
    from magnetite.core.operations.aim import Target
    from magnetite.experiment.prediction import predicted_rates
    from magnetite.experiment.results import read_rows

    target, share = Target.parse(need), share_of("--confidence", confidence)
    if not 0.5 <= share < 1:
        raise InputError(f"--confidence {confidence}: a share of 50 % or more, below 100 %")
    rows = read_rows(folder)
    known = []
    for path in pictures:
        activity = activity_of(load(path, full_scale))
        if activity is None:
            raise InputError(f"{path}: has no activity to predict from: it is a single sample")
        known.append((str(path), activity))
    made = predicted_rates(rows, target, known, share)
    emit(format, Output([made.table()]))
    for words in made.notes:
        note(words)
