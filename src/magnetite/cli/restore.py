"""`magnetite restore`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import FullScaleOption, StepsArgument, load, note, protect
from magnetite.cli.output import Cell, print_table
from magnetite.cli.progress import working
from magnetite.cli.score_output import heading

if TYPE_CHECKING:
    from collections.abc import Mapping

    from magnetite.core.chain import Chain, Step
    from magnetite.core.picture import Picture


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
) -> None:
    """Restore a degraded picture; with a reference, score it before and after."""
    from magnetite.core.chain import parse_chain
    from magnetite.core.restore.apply import restore_chain
    from magnetite.core.restore.residual import taken_away
    from magnetite.core.scoring import check_comparable
    from magnetite.files.writing import check_output, write

    protect([source, *([reference] if reference else [])], [out])
    degraded = load(source, full_scale)
    clean = load(reference, full_scale) if reference else None
    if clean is not None:
        check_comparable(clean, degraded)
    check_output(degraded, out)
    chain = parse_chain(steps, "restoration", auto=True)
    with working(f"restore: {chain}"):
        if aim is not None:
            chain = _aimed(chain, aim, degraded, clean)
        restored = restore_chain(degraded, chain)
    messages = write(restored.picture, out)
    if clean is not None:
        _print_gain(clean, degraded, restored.picture)
    if restored.clipped.share and degraded.bits is not None:
        note(f"{restored.clipped.share:.3%} of the samples were clipped")
    taken = taken_away(degraded, restored.picture)
    for message in (*restored.notes, *messages):
        note(message)
    if taken is not None:
        print(
            f"{taken.verdict} (sd {taken.sd:.4g} {degraded.amplitude_unit}, "
            f"structure {taken.structure:.3f}, edges {taken.edges:+.2f})"
        )
    print(f"{restored.chain}: wrote {out}")


def _aimed(chain: Chain, aim: str, degraded: Picture, clean: Picture | None) -> Chain:
    """The chain with its open setting solved for, and a note of how."""
    from magnetite.core.errors import InputError
    from magnetite.core.restore.tuning import tune

    metric, _, value = aim.rpartition("=")
    if not metric or value != "best":
        raise InputError(f"--aim {aim}: write METRIC=best, as in psnr=best")
    tuned = tune(degraded, chain, metric, clean)
    told = (
        "against the reference: an oracle, for there is none in practice"
        if clean is not None
        else "by the unbiased estimate of its risk, for Gaussian noise"
    )
    note(f"{tuned.setting} is best of {tuned.tries}: {tuned.metric} {tuned.value:.5g} {told}")
    return tuned.chain


def _print_gain(clean: Picture, before: Picture, after: Picture) -> None:
    from magnetite.core.scoring import DEFAULT_METRICS, parse_metrics, score

    first, second = score(clean, before), score(clean, after)
    rows = [
        [heading(step.method), first[str(step)], second[str(step)], *_change(step, first, second)]
        for step in parse_metrics(DEFAULT_METRICS, "metric")
    ]
    print_table(["against the reference", "before", "after", "change", ""], rows)


def _change(step: Step, before: Mapping[str, float], after: Mapping[str, float]) -> list[Cell]:
    """After minus before, and whether that is better."""
    old, new = before[str(step)], after[str(step)]
    if old == new:
        return [0.0, "same"]
    better = (new > old) == (step.method.traits["better"] == "higher")
    return [new - old, "better" if better else "worse"]
