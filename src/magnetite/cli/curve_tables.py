"""What the points of `magnetite curve` say of its codecs: differences, and rates at a score."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

from magnetite.cli.curve_points import Result
from magnetite.cli.options import note
from magnetite.cli.output import Cell, print_table, say
from magnetite.core.curves import Better, Curve, compare, rate_at
from magnetite.core.errors import InputError

COMPARED = ("reference", "metric", "anchor", "codec", "bd_rate", "bd_quality", "overlap")
RATES = ("reference", "metric", "score", "codec", "bpp", "against_first")


@dataclass(frozen=True)
class Curves:
    """The points of every codec on every reference."""

    results: list[Result]
    references: list[Path]
    codecs: list[str]

    def points(self, reference: int, codec: int, metric: str) -> Curve:
        """Rate and score of one codec's points on one picture."""
        return [
            (r.point.bpp, r.point.scores[metric])
            for r in self.results
            if (r.reference, r.codec) == (reference, codec)
        ]


def better_of(metric: str) -> Better:
    """Which way of a metric's score is better."""
    from magnetite.core.chain import parse_step
    from magnetite.core.declarations import Metric

    return parse_step(metric, "metric").declared(Metric).better


def compared(curves: Curves, metrics: list[str]) -> list[list[Cell]]:
    """Each codec against the first, picture by picture, then the mean over all of them."""
    lines: list[list[Cell]] = []
    reasons: dict[str, None] = {}
    for metric in metrics:
        better = better_of(metric)
        for codec in range(1, len(curves.codecs)):
            own: list[list[Cell]] = []
            for number, path in enumerate(curves.references):
                one, two = (curves.points(number, c, metric) for c in (0, codec))
                found = compare(one, two, better)
                figures = [found.bd_rate, found.bd_quality, found.overlap]
                names = [curves.codecs[0], curves.codecs[codec]]
                own.append([str(path), metric, *names, *figures])
                if found.reason:
                    reasons[
                        f"{names[1]} against {names[0]}, {metric} of {path}: {found.reason}"
                    ] = None
            lines += own
            if len(curves.references) > 1:
                means = [_mean([line[k] for line in own]) for k in (4, 5, 6)]
                lines.append(["mean", metric, curves.codecs[0], curves.codecs[codec], *means])
    for reason in reasons:
        note(reason)
    return lines


def _mean(values: list[Cell]) -> float | None:
    known = [value for value in values if isinstance(value, float)]
    return sum(known) / len(known) if len(known) == len(values) else None


def rates_at(curves: Curves, metric: str, score: float) -> list[list[Cell]]:
    """Rate of every codec at a score: for each picture, then the geometric mean over all.

    The last column is the mean share of rate beside the first codec's. A codec that does not
    reach the score on a picture has no rate there, and no mean.
    """
    better = better_of(metric)
    lines: list[list[Cell]] = []
    firsts: list[float | None] = []
    for codec, name in enumerate(curves.codecs):
        rates = [
            _rate(curves.points(number, codec, metric), score, better)
            for number in range(len(curves.references))
        ]
        firsts = firsts or rates
        shares = [
            None if rate is None or first is None else rate / first - 1
            for rate, first in zip(rates, firsts, strict=True)
        ]
        for path, rate, share in zip(curves.references, rates, shares, strict=True):
            lines.append([str(path), metric, score, name, rate, share])
        if len(rates) > 1:
            lines.append(
                ["mean", metric, score, name, _geometric(rates), _mean_share(rates, firsts)]
            )
    return sorted(lines, key=lambda line: line[0] == "mean")


def _rate(points: Curve, score: float, better: Better) -> float | None:
    try:
        return rate_at(points, score, better)
    except InputError:
        return None


def _geometric(rates: list[float | None]) -> float | None:
    known = [math.log(rate) for rate in rates if rate is not None]
    return math.exp(sum(known) / len(known)) if len(known) == len(rates) else None


def _mean_share(rates: list[float | None], firsts: list[float | None]) -> float | None:
    one, two = _geometric(rates), _geometric(firsts)
    return None if one is None or two is None else one / two - 1


def print_comparisons(lines: list[list[Cell]]) -> None:
    """BD-rate and its like as a table for people."""
    if not lines:
        return
    say()
    print_table(
        ["reference", "metric", "against", "codec", "BD-rate %", "BD-quality", "overlap %"],
        [[*line[:4], _percent(line[4]), line[5], _percent(line[6])] for line in lines],
        "BD-rate: mean rate at equal score (below 0 is better); BD-quality: mean score at equal "
        "rate, in the metric's unit; – cannot be told",
    )


def print_rates(lines: list[list[Cell]]) -> None:
    """Rates at a score as a table for people."""
    if not lines:
        return
    say()
    print_table(
        ["reference", "at", "codec", "bpp", "against the first %"],
        [
            [line[0], f"{line[1]}={line[2]:g}", line[3], line[4], _percent(line[5])]
            for line in lines
        ],
        "interpolated between the points of each curve, as for BD-rate; means are geometric; "
        "– outside the scores that were measured",
    )


def _percent(share: Cell) -> float | None:
    return 100 * share if isinstance(share, float) else None
