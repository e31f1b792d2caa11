"""Rate-distortion curves of codecs on pictures, and their comparison."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.analysis.statistics import interval
from magnetite.core.arrays import Samples
from magnetite.core.chain.step import Step
from magnetite.core.compute.threads import each
from magnetite.core.curves.comparison import Better, Curve, compare, rate_at
from magnetite.core.curves.points import Point, at_rate, curve_codecs, point, sweep_steps
from magnetite.core.errors import InputError
from magnetite.core.methods.declarations import Metric
from magnetite.core.operations.coding import Compressed
from magnetite.core.operations.measuring import measured
from magnetite.core.operations.selection import Named, Selection, score_column, selected
from magnetite.core.picture import Picture, as_picture
from magnetite.core.picture.matching import check_distinct
from magnetite.core.table import Column, Table, Tabular

#: Stands for the mean over all references.
MEAN = "mean"
_ACTIVITY = Step("gauge", "activity")


class CurvePoint(NamedTuple):
    """A point with the positions of its reference and codec in the lists that were given."""

    reference: int
    codec: int
    point: Point


class Comparison(NamedTuple):
    """A codec against the first; None where it cannot be computed."""

    reference: str
    metric: str
    anchor: str
    codec: str
    #: Mean difference of the rate at equal score, a share of the anchor's; below 0 is better.
    bd_rate: float | None
    #: Mean difference of the score at equal rate, in the metric's unit.
    bd_quality: float | None
    #: Share of the smaller range of scores that both curves cover.
    overlap: float | None
    #: Of one picture, the range of BD-rates by other interpolations and without one inner point;
    #: of means over pictures, the 95 % interval of both differences.
    bd_rate_low: float | None = None
    bd_rate_high: float | None = None
    bd_quality_low: float | None = None
    bd_quality_high: float | None = None
    #: Pictures behind a mean of the rate, and of the score.
    rate_pictures: int | None = None
    quality_pictures: int | None = None


class RateRow(NamedTuple):
    """Rate of a codec at a score; None where its points do not reach it."""

    reference: str
    metric: str
    score: float
    codec: str
    bpp: float | None
    #: Share of rate beyond the first codec's.
    against_first: float | None
    #: Of means over pictures, the 95 % interval of that share, and their number.
    against_low: float | None = None
    against_high: float | None = None
    pictures: int | None = None


@dataclass(frozen=True, repr=False)
class Curves(Tabular):
    """The points of every codec on every reference.

    `references` are the pictures' names, `activity` their gauge of that name, None where it does
    not apply; `known` points were there from an earlier run.
    """

    results: tuple[CurvePoint, ...]
    references: tuple[str, ...]
    codecs: tuple[str, ...]
    scored: Selection
    activity: tuple[float | None, ...]
    known: int = 0

    @property
    def metrics(self) -> tuple[str, ...]:
        """Canonical texts of the metrics that suit one of the pictures at least."""
        had = {label for result in self.results for label in result.point.scores}
        return tuple(label for label in self.scored.labels if label in had)

    @property
    def left_out(self) -> dict[str, str]:
        """Why a metric has no score on some of the pictures."""
        reasons: dict[str, str] = {}
        for result in self.results:
            reasons |= result.point.left_out
        return reasons

    def better(self, metric: str) -> Better:
        """The better direction of one of the metrics."""
        return self.scored.step(metric).declared(Metric).better

    def points(self, reference: int, codec: int) -> list[Point]:
        """One codec's points on one picture, by rising rate."""
        return [r.point for r in self.results if (r.reference, r.codec) == (reference, codec)]

    def curve(self, reference: int, codec: int, metric: str) -> Curve:
        """Rate and score of one codec's points on one picture; none where it does not suit it."""
        points = self.points(reference, codec)
        return [(p.bpp, p.scores[metric]) for p in points if metric in p.scores]

    def rows(self) -> list[tuple[Any, ...]]:
        """A row for each point: reference, activity, codec, bpp, bytes, then the scores."""
        return [
            (
                self.references[r.reference], self.activity[r.reference], str(r.point.step),
                r.point.bpp, r.point.bytes, *map(r.point.scores.get, self.metrics),
            )
            for r in self.results
        ]  # fmt: skip

    def table(self) -> Table:
        """The rows with their columns."""
        scores = [score_column(step, within="scores") for step in self.scored.only(self.metrics)]
        first = map(Column, ("reference", "activity", "codec", "bpp", "bytes"))
        return Table.of([*first, *scores], self.rows())

    def comparisons(self) -> tuple[list[Comparison], list[str]]:
        """Each codec against the first, picture by picture, then the means; and reasons of gaps.

        Means are over the pictures on which all codecs have the figure.
        """
        found: list[Comparison] = []
        reasons: dict[str, None] = {}
        pictures = range(len(self.references))
        for metric in self.metrics:
            table = [
                [self._compared(number, codec, metric) for number in pictures]
                for codec in range(1, len(self.codecs))
            ]
            reasons |= {reason: None for row in table for _, reason in row if reason}
            compared = [[one for one, _ in row] for row in table]
            rates, gains = (_common(compared, name) for name in ("bd_rate", "bd_quality"))
            for own in compared:
                found += own + ([_mean_of(own, rates, gains)] if len(own) > 1 else [])
        return found, list(reasons)

    def _compared(self, reference: int, codec: int, metric: str) -> tuple[Comparison, str]:
        first, second = (self.curve(reference, c, metric) for c in (0, codec))
        made = compare(first, second, self.better(metric))
        name, anchor, label = self.references[reference], self.codecs[0], self.codecs[codec]
        comparison = Comparison(
            name, metric, anchor, label, made.bd_rate, made.bd_quality, made.overlap,
            made.bd_rate_low, made.bd_rate_high,
        )  # fmt: skip
        said = made.reason or made.remark if first and second else f"{metric} does not suit it"
        return comparison, f"{label} against {anchor}, {metric} of {name}: {said}" if said else ""

    def rates_at(self, metric: str, score: float) -> list[RateRow]:
        """Rate of every codec at a score: for each picture, then the geometric mean over pictures.

        Means are over the pictures on which all codecs reach the score.
        """
        table = [
            [_rate(self.curve(n, codec, metric), score, self.better(metric))
             for n in range(len(self.references))]
            for codec in range(len(self.codecs))
        ]  # fmt: skip
        common = [
            n for n in range(len(self.references)) if all(own[n] is not None for own in table)
        ]
        logs = np.log([[own[n] or math.nan for n in common] for own in table])
        rows: list[RateRow] = []
        means: list[RateRow] = []
        for codec, name in enumerate(self.codecs):
            for reference, rate, first in zip(self.references, table[codec], table[0], strict=True):
                share = None if rate is None or first is None else rate / first - 1
                rows.append(RateRow(reference, metric, score, name, rate, share))
            if len(self.references) > 1 and common:
                found = interval((logs[codec] - logs[0]).tolist())
                low, high = (_known(math.expm1(v)) if codec else None for v in found[1:3])
                means.append(
                    RateRow(MEAN, metric, score, name, math.exp(float(logs[codec].mean())),
                            math.expm1(found.mean), low, high, len(common))
                )  # fmt: skip
            elif len(self.references) > 1:
                means.append(RateRow(MEAN, metric, score, name, None, None, pictures=0))
        return rows + means

    def at_equal_rate(
        self, picture: Picture, reference: int = 0
    ) -> tuple[float, list[Compressed | None]]:
        """A rate within the reach of all codecs, and one picture coded by each at it.

        None for a codec whose settings have no file of about that rate.

        Raises
        ------
        InputError
            If the codecs share no rate on that picture.
        """
        reach = [self.points(reference, codec) for codec in range(len(self.codecs))]
        low, high = max(p[0].bpp for p in reach), min(p[-1].bpp for p in reach)
        if low > high:
            raise InputError(
                f"the codecs share no rate on {self.references[reference]}: extend their sweeps "
                "towards each other"
            )
        rate = math.sqrt(low * high)
        nearest = [min(points, key=lambda p: abs(math.log(p.bpp / rate))) for points in reach]
        return rate, [at_rate(picture, one.step, rate) for one in nearest]


def curve(
    references: Picture | Samples | Sequence[Picture | Samples],
    codecs: str | Sequence[str],
    metrics: Named = "psnr,ssim",
    *,
    source: Picture | Samples | None = None,
    workers: int = 2,
) -> Curves:
    """Rate-distortion curves of codecs on pictures.

    Parameters
    ----------
    references : Picture or array, or a list of pictures
        The reference of the decoded pictures.
    codecs : str or list of str
        Codecs with a sweep of their settings, `dct step=2dn,4dn,8dn`; without their quality
        setting, points are evenly spaced in the logarithm of the rate. Several values of other
        settings give a curve each. The first is the one the others are compared with.
    metrics : str
        As for `score`.
    source : Picture or array, optional
        The picture to code, if it is not the reference itself: a noisy or denoised version.
    workers : int
        Points computed at a time.

    Raises
    ------
    ChainError, PictureError
        If codecs or metrics cannot be read, or a codec or all metrics do not suit a picture.
    InputError
        If two references hold the same samples: they would count as two pictures; or a codec is
        named twice.

    Examples
    --------
    >>> import magnetite
    >>> core = magnetite.scenes((96, 72))["clay-core"]
    >>> codecs = ["dct step=2%,4%,8%,16%", "wavelet step=2%,4%,8%,16%"]
    >>> (found,), _ = magnetite.curve(core, codecs, "psnr", workers=1).comparisons()
    >>> found.anchor, found.bd_rate < 0
    ('dct step=2%,4%,8%,16%', True)
    """
    pictures = _pictures(references)
    swept = curve_codecs([codecs] if isinstance(codecs, str) else codecs)
    scored = selected(metrics, "metric")
    coded = pictures if source is None else [as_picture(source)] * len(pictures)
    jobs = [
        (number, codec, step)
        for number, picture in enumerate(coded)
        for codec, one in enumerate(swept)
        for step in sweep_steps(one, picture)
    ]

    def work(job: tuple[int, int, Step]) -> CurvePoint:
        number, codec, step = job
        made = point(pictures[number], step, scored, coded[number])
        return CurvePoint(number, codec, made)

    def name(job: tuple[int, int, Step]) -> str:
        return f"{pictures[job[0]].origin}: {job[2]}"

    results = each(work, jobs, workers=workers, name=name)
    results.sort(key=lambda r: (r.reference, r.codec, r.point.bpp))
    activity = tuple(map(activity_of, pictures))
    return Curves(
        tuple(results), _names(pictures), tuple(one.name for one in swept), scored, activity
    )


def activity_of(picture: Picture) -> float | None:
    """The gauge `activity`, dn of 8 bits; None where it does not apply."""
    return measured([_ACTIVITY], picture, strict=False).get(str(_ACTIVITY))


def _pictures(references: Any) -> list[Picture]:
    """One picture or several of different samples; an array is one."""
    if not isinstance(references, list | tuple):
        return [as_picture(references)]
    return list(check_distinct(map(as_picture, references), "references"))


def _names(pictures: Sequence[Picture]) -> tuple[str, ...]:
    """Names of the pictures, with their numbers where several have one name."""
    names = [one.origin for one in pictures]
    return tuple(
        name if names.count(name) == 1 else f"{name} {number}"
        for number, name in enumerate(names, 1)
    )


def _common(table: list[list[Comparison]], figure: str) -> list[int]:
    """Numbers of the pictures on which all codecs have a figure, from a row for each codec."""
    columns = enumerate(zip(*table, strict=True))
    return [k for k, own in columns if all(getattr(one, figure) is not None for one in own)]


def _mean_of(
    own: list[Comparison], with_rate: Sequence[int], with_quality: Sequence[int]
) -> Comparison:
    """Means over the pictures of these numbers, those of rates in the logarithm."""
    rated, scored = ([own[k] for k in numbers] for numbers in (with_rate, with_quality))
    gaps = [math.log1p(one.bd_rate) for one in rated if one.bd_rate is not None]
    gains = [one.bd_quality for one in scored if one.bd_quality is not None]
    overlaps = [c.overlap for c in own if c.overlap is not None]
    rate = [_known(math.expm1(v)) for v in interval(gaps)[:3]] if gaps else [None] * 3
    gain = [_known(v) for v in interval(gains)[:3]] if gains else [None] * 3
    return own[0]._replace(
        reference=MEAN, bd_rate=rate[0], bd_quality=gain[0],
        overlap=sum(overlaps) / len(overlaps) if overlaps else None,
        bd_rate_low=rate[1], bd_rate_high=rate[2], bd_quality_low=gain[1],
        bd_quality_high=gain[2], rate_pictures=len(gaps), quality_pictures=len(gains),
    )  # fmt: skip


def _known(value: float) -> float | None:
    return None if math.isnan(value) else value


def _rate(points: Curve, score: float, better: Better) -> float | None:
    try:
        return rate_at(points, score, better)
    except InputError:
        return None
