"""`magnetite restore`."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import FullScaleOption, StepsArgument, limits, note, protect, rows_of
from magnetite.cli.output import print_table, say
from magnetite.cli.progress import working
from magnetite.core.quantities import percent, significant
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.core.operations.restore import Outcome
    from magnetite.core.operations.score import Scores


def run(
    source: Annotated[Path, typer.Argument(metavar="IN", help="Degraded picture.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="Restored picture to write.")],
    steps: StepsArgument,
    reference: Annotated[
        Path | None,
        typer.Option(help="Clean picture: scores before and after are printed.", metavar="REF"),
    ] = None,
    aim: Annotated[
        str | None,
        typer.Option(
            help="Tune the setting that is auto: any metric with a reference; psnr=best without "
            "one, for steps that remove Gaussian noise or undo a known blur.",
            metavar="METRIC=best",
        ),
    ] = None,
    noise_sd: Annotated[
        str | None,
        typer.Option(
            help="Sd of the picture's noise where it is known, for --aim without a reference.",
            metavar="AMPLITUDE",
        ),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    from magnetite.core.chain.notation import parse_chain
    from magnetite.core.operations.restore import restoring
    from magnetite.core.picture.rows import joined
    from magnetite.files.resources import DiskFiles
    from magnetite.files.writing import check_output, write_rows

    chain = parse_chain(steps, "restoration", auto=True)
    protect([source, *([reference] if reference else []), *map(Path, chain.files)], [out])
    degraded = rows_of(source, full_scale)
    clean = rows_of(reference, full_scale) if reference else None
    check_output(degraded.frame, out)
    start = time.perf_counter()
    with working(f"restore: {chain}"):
        job = restoring(
            degraded, chain, reference=clean, aim=aim, noise_sd=noise_sd, files=DiskFiles(),
            allowance=limits.allowance,
        )  # fmt: skip
        check_output(job.frame, out, banded=job.banded)
        bands = job if job.banded else [joined(job)]
        messages = write_rows(out, job.frame, bands)
    seconds = time.perf_counter() - start
    for message in (*job.notes, *messages):
        note(message)
    if isinstance(bands, list):
        outcome: Outcome = job.restored(bands[0])
        if outcome.residual is None:
            note("the residual is not judged: the picture is too small or has no luma")
    else:
        outcome = job.outcome(rows_of(out, conversion=False))
        note("the residual is not judged: the picture was restored in bands")
    _say(outcome, degraded.frame.bits, out, seconds, format)


def _say(
    outcome: Outcome, bits: int | None, out: Path, seconds: float, format: OutputFormat
) -> None:
    if outcome.clipped.share and bits is not None:
        note(f"{percent(outcome.clipped.share)} of the samples were clipped")
    table = outcome.table()
    table = replace(table, rows=[*table.rows, ("seconds", None, seconds, "s")])

    def people() -> None:
        _print(outcome)
        words = str(outcome.chain) or "nothing restored"
        say(f"{words}: wrote {out}, in {seconds:.2f} s")

    emit(format, Output([table], _as_json(outcome, out, seconds), people))


def _as_json(outcome: Outcome, out: Path, seconds: float) -> dict[str, Any]:
    content: dict[str, Any] = {"chain": outcome.chain, "out": str(out), "seconds": seconds}
    if outcome.before is not None and outcome.after is not None:
        content |= {"before": dict(outcome.before), "after": dict(outcome.after)}
    if (residual := outcome.residual) is not None:
        figures = {name: value for name, value, _ in residual.figures()}
        content["residual"] = {
            "finding": residual.finding, "verdict": residual.verdict, "unit": residual.unit,
            **figures,
        }  # fmt: skip
    return content


def _print(outcome: Outcome) -> None:
    if outcome.before is not None and outcome.after is not None:
        _print_gain(outcome.before, outcome.after)
    if (residual := outcome.residual) is not None:
        say(residual.verdict)
        say(
            f"residual: sd {significant(residual.sd, 4)} {residual.unit}, structure "
            f"{residual.structure:.3f}, edges {residual.edges:+.2f}"
        )


def _print_gain(before: Scores, after: Scores) -> None:
    from magnetite.core.operations.selection import score_column

    rows: list[list[Any]] = []
    for column in map(score_column, before.steps):
        old, new = before[column.name], after[column.name]
        better = (new > old) == (column.direction == "higher")
        words = "same" if old == new else "better" if better else "worse"
        change = 0.0 if old == new else new - old
        rows.append([column.heading, old, new, change, words])
    titles = ["against the reference", "before", "after", "change", ""]
    print_table(Table.of(titles, rows, "dn are those of 8 bits; ↑ more is better, ↓ less"))
