"""`magnetite restore`."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

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
from magnetite.cli.output import Cell, print_csv, print_json, print_table, say
from magnetite.cli.progress import working
from magnetite.cli.score_output import heading

if TYPE_CHECKING:
    from collections.abc import Mapping

    from magnetite.core.chain import Chain, Step
    from magnetite.core.picture import Picture
    from magnetite.core.restore.residual import TakenAway
    from magnetite.core.scoring import Scores


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
    from magnetite.core.chain import parse_chain
    from magnetite.core.restore.apply import restore_chain
    from magnetite.core.restore.residual import taken_away
    from magnetite.core.scoring import check_comparable, score
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
        if aim is not None:
            chain = _aimed(chain, aim, degraded, clean)
        restored = restore_chain(degraded, chain)
    seconds = time.perf_counter() - start
    messages = write(restored.picture, out)
    scores = None if clean is None else (score(clean, degraded), score(clean, restored.picture))
    if restored.clipped.share and degraded.bits is not None:
        note(f"{restored.clipped.share:.3%} of the samples were clipped")
    for message in (*restored.notes, *messages):
        note(message)
    taken = taken_away(degraded, restored.picture)
    if taken is None:
        note("what was taken away is not judged: the picture is too small or has no luma")
    result = _Result(restored.chain, out, seconds, scores, taken)
    if format is OutputFormat.json:
        print_json(result.as_json())
    elif format is OutputFormat.csv:
        print_csv(["figure", "before", "after"], result.rows())
    else:
        _print(result, degraded.amplitude_unit)


class _Result(NamedTuple):
    """What is printed of a restoration."""

    chain: str
    out: Path
    seconds: float
    scores: tuple[Scores, Scores] | None
    taken: TakenAway | None

    def rows(self) -> list[list[Cell]]:
        """Figures before and after; the time, and what was taken away, belong to the latter."""
        rows: list[list[Cell]] = []
        if self.scores is not None:
            rows += [
                [label, self.scores[0][label], self.scores[1][label]] for label in self.scores[0]
            ]
        rows.append(["seconds", None, self.seconds])
        if self.taken is not None:
            rows += [[f"taken {name}", None, value] for name, value in self._figures().items()]
        return rows

    def _figures(self) -> dict[str, float]:
        assert self.taken is not None
        return {name: getattr(self.taken, name) for name in ("sd", "structure", "edges", "left")}

    def as_json(self) -> dict[str, Any]:
        """The same with names."""
        content: dict[str, Any] = {
            "chain": self.chain, "out": str(self.out), "seconds": self.seconds,
        }  # fmt: skip
        if self.scores is not None:
            content |= {"before": dict(self.scores[0]), "after": dict(self.scores[1])}
        if self.taken is not None:
            content["taken_away"] = {"verdict": self.taken.verdict, **self._figures()}
        return content


def _print(result: _Result, unit: str) -> None:
    if result.scores is not None:
        _print_gain(*result.scores)
    if (taken := result.taken) is not None:
        say(
            f"{taken.verdict} (sd {taken.sd:.4g} {unit}, structure {taken.structure:.3f}, "
            f"edges {taken.edges:+.2f})"
        )
    say(f"{result.chain}: wrote {result.out}, in {result.seconds:.2f} s")


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


def _print_gain(first: Scores, second: Scores) -> None:
    from magnetite.core.declarations import Figure
    from magnetite.core.scoring import DEFAULT_METRICS, parse_metrics

    rows = [
        [
            heading(step.declared(Figure)),
            first[str(step)],
            second[str(step)],
            *_change(step, first, second),
        ]
        for step in parse_metrics(DEFAULT_METRICS, "metric")
    ]
    print_table(["against the reference", "before", "after", "change", ""], rows)


def _change(step: Step, before: Mapping[str, float], after: Mapping[str, float]) -> list[Cell]:
    """After minus before, and whether that is better."""
    old, new = before[str(step)], after[str(step)]
    if old == new:
        return [0.0, "same"]
    from magnetite.core.declarations import Metric

    better = (new > old) == (step.declared(Metric).better == "higher")
    return [new - old, "better" if better else "worse"]
