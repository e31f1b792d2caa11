"""`magnetite restore`."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from magnetite.cli.options import (
    FormatOption,
    FullScaleOption,
    OutputFormat,
    StepsArgument,
    load,
    note,
    protect,
)
from magnetite.cli.output import print_csv, print_json, print_table, say
from magnetite.cli.progress import working
from magnetite.cli.score_output import heading
from magnetite.files.tables import Cell

if TYPE_CHECKING:
    from magnetite.core.verbs.restore import Restored
    from magnetite.core.verbs.score import Scores


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
            help="Tune the setting that is auto: any metric with a reference, psnr=best without "
            "one, for Gaussian noise.",
            metavar="METRIC=best",
        ),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Restore a degraded picture; with a reference, score it before and after."""
    from magnetite import restore
    from magnetite.core.chain.notation import parse_chain
    from magnetite.core.picture.matching import check_comparable
    from magnetite.files.writing import check_output, write

    chain = parse_chain(steps, "restoration", auto=True)
    protect([source, *([reference] if reference else []), *map(Path, chain.files)], [out])
    degraded = load(source, full_scale)
    clean = load(reference, full_scale) if reference else None
    if clean is not None:
        check_comparable(clean, degraded)
    check_output(degraded, out)
    start = time.perf_counter()
    with working(f"restore: {chain}"):
        restored = restore(degraded, str(chain), reference=clean, aim=aim)
    seconds = time.perf_counter() - start
    messages = write(restored.picture, out)
    if restored.clipped.share and degraded.bits is not None:
        note(f"{restored.clipped.share:.3%} of the samples were clipped")
    for message in (*restored.notes, *messages):
        note(message)
    if restored.taken is None:
        note("what was taken away is not judged: the picture is too small or has no luma")
    if format is OutputFormat.json:
        print_json(_as_json(restored, out, seconds))
    elif format is OutputFormat.csv:
        rows = [(row.figure, row.before, row.after) for row in restored.rows()]
        print_csv(["figure", "before", "after"], [*rows, ("seconds", None, seconds)])
    else:
        _print(restored, degraded.amplitude_unit)
        say(f"{restored.chain}: wrote {out}, in {seconds:.2f} s")


def _as_json(restored: Restored, out: Path, seconds: float) -> dict[str, Any]:
    content: dict[str, Any] = {"chain": restored.chain, "out": str(out), "seconds": seconds}
    if restored.before is not None and restored.after is not None:
        content |= {"before": dict(restored.before), "after": dict(restored.after)}
    if (taken := restored.taken) is not None:
        figures = {name: value for name, value, _ in taken.figures()}
        content["taken_away"] = {"verdict": taken.verdict, **figures}
    return content


def _print(restored: Restored, unit: str) -> None:
    if restored.before is not None and restored.after is not None:
        _print_gain(restored.before, restored.after)
    if (taken := restored.taken) is not None:
        say(
            f"{taken.verdict} (sd {taken.sd:.4g} {unit}, structure {taken.structure:.3f}, "
            f"edges {taken.edges:+.2f})"
        )


def _print_gain(before: Scores, after: Scores) -> None:
    from magnetite.core.methods.declarations import Metric

    rows: list[list[Cell]] = []
    for step in before.steps:
        metric, old, new = step.declared(Metric), before[str(step)], after[str(step)]
        better = (new > old) == (metric.better == "higher")
        words = "same" if old == new else "better" if better else "worse"
        change = 0.0 if old == new else new - old
        rows.append([heading(metric), old, new, change, words])
    print_table(["against the reference", "before", "after", "change", ""], rows)
