"""`magnetite opinions`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, cast

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import note, protect
from magnetite.cli.output import say_done
from magnetite.core.errors import InputError

if TYPE_CHECKING:
    from magnetite.core.opinion.scaling import Model
    from magnetite.core.table import Table
    from magnetite.experiment.agreements import Compared

#: Grade that a gate accepts from unless another is stated.
_LEAST = 4.0


def run(
    answers: Annotated[
        list[Path], typer.Argument(metavar="ANSWERS…", help="Files of answers, or folders of them.")
    ],
    test: Annotated[Path, typer.Option(help="Folder of the test, from ask.", metavar="FOLDER")],
    metrics: Annotated[
        str | None,
        typer.Option(help="Metrics to compare with the opinions, as in psnr,ssim.", metavar="LIST"),
    ] = None,
    model: Annotated[
        str | None,
        typer.Option(
            help="Of pairs: thurstone (case V) or bradley-terry; thurstone if left out.",
            metavar="NAME",
        ),
    ] = None,
    gate: Annotated[
        Path | None,
        typer.Option(help="Gate to write, from the first of --metrics.", metavar="GATE.json"),
    ] = None,
    least: Annotated[
        float | None,
        typer.Option(
            help="Mean opinion that the gate accepts from; 4 if left out.", metavar="GRADE"
        ),
    ] = None,
    out: Annotated[
        Path, typer.Option(help="Figure to write: .png, .svg or .pdf.", metavar="FIGURE")
    ] = Path("opinions.png"),
    format: FormatOption = OutputFormat.table,
) -> None:
    """Answers are checked against the test, and raters screened, before anything is computed."""
    from magnetite.experiment.agreements import compared, gate_of
    from magnetite.experiment.gating import check_gate_path
    from magnetite.experiment.opinions import check_grades, opinions
    from magnetite.files.sidecar import write_json
    from magnetite.views.opinions import opinions_figure
    from magnetite.views.style import check_figure_path, save

    if least is not None and gate is None:
        raise InputError(
            "--least is the grade from which a gate accepts: name the gate with --gate"
        )
    if gate is not None:
        check_gate_path(gate)
        if metrics is None:
            raise InputError("--gate takes the metric that it goes by, as in --metrics ssim")
    check_figure_path(out)
    protect([*answers, test / "test.json"], [one for one in (out, gate) if one is not None])
    found = opinions(test, answers, model=cast("Model | None", model))
    if gate is not None:
        check_grades(found)
    made = None if metrics is None else compared(found, test, metrics)
    if gate is not None and made is not None:
        first = next(iter(made.figures))
        write_json(
            gate, gate_of(found, made, first, _LEAST if least is None else least).as_record()
        )
    save(opinions_figure(found, made), out)
    tables = [found.table()] if made is None else [found.table(), _agreement(made)]
    record = {
        "rows": tables[0].records(), "raters": list(found.raters), "left_out": found.left_out,
        "simulated": found.simulated,
        "agreement": [] if made is None else tables[1].records(),
    }  # fmt: skip
    emit(format, Output(tables, record))
    left_out = [f"{rater} is left out: {reason}" for rater, reason in found.left_out.items()]
    for words in (*found.notes, *left_out, *(() if made is None else made.notes)):
        note(words)
    if format is OutputFormat.table:
        say_done(f"wrote {out}" + (f" and {gate}" if gate is not None else ""))


def _agreement(made: Compared) -> Table:
    from magnetite.core.table import Table

    return Table.of(
        ["metric", "of", "pictures", "Pearson", "95 % from", "to", "Spearman", "95 % from ", "to ",
         "rmse", "95 % from  ", "to  ", "p"],
        made.rows,
        "after a monotone logistic mapping (ITU-T P.1401) of these pictures; p: chance of so large "
        "a difference from the best metric (Steiger, Holm)",
    )  # fmt: skip
