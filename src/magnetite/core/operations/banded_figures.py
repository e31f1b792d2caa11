"""Score and gauge pictures in bands of rows: figures that add up over parts of a picture."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextvars import Context, copy_context
from dataclasses import replace
from functools import partial

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import Bound, bind_step
from magnetite.core.chain.step import Step
from magnetite.core.compute.sharing import Sharing, shared
from magnetite.core.compute.threads import spread
from magnetite.core.errors import InputError
from magnetite.core.limits import MEMORY
from magnetite.core.methods.declarations import ColourPolicy, Figure, Metric
from magnetite.core.methods.sums import Part, Totals
from magnetite.core.operations.gauge import DEFAULT_GAUGES
from magnetite.core.operations.measuring import (
    Figures,
    Scale,
    clip_remark,
    parse_figures,
    samples_beyond,
)
from magnetite.core.operations.score import DEFAULT_METRICS, Scores
from magnetite.core.picture import Picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.matching import check_comparable
from magnetite.core.picture.picture import luma
from magnetite.core.picture.rows import Band, Rows, band_height, in_bands

#: Bytes for each sample that scoring takes: two pictures, two bands of each, and their planes; of
#: float pictures also in float64.
_SCORED, _SCORED_FLOAT = 16.0, 48.0
#: The same of gauges: the samples in float64, and two gauges that work on them.
_GAUGED = 80.0
#: Sides of a picture on which it is tried whether a figure takes one of that size and colour.
_TRIED = 64

Job = tuple["_Adding", Context]


def score_rows(
    reference: Rows,
    test: Rows,
    metrics: str = DEFAULT_METRICS,
    memory: int = MEMORY,
    *,
    strict: bool = True,
) -> Scores:
    """Scores of a test picture against its reference, as `score` gives them, read in bands.

    Parameters
    ----------
    reference, test : Rows
        Of one size, colour and bit depth.
    metrics : str
        Those that add up over parts: errors, ssim, its terms, uqi.
    memory : int
        Bytes that may be used.
    strict : bool
        Whether a metric that needs the whole picture, or a larger one, is an error; if not, it is
        left out.

    Raises
    ------
    PictureError
        If the pictures do not match.
    ChainError, InputError, LimitError
        As in `DegradedRows`.
    """
    check_comparable(reference, test)
    steps = parse_figures(metrics, "metric")
    figures, left_out = _taken_apart(steps, reference, strict)
    cost = _SCORED if reference.frame.bits else _SCORED_FLOAT
    identical, remarks = _add_up(figures, cost, memory, reference, test)
    values = {label: figure.value(identical) for label, figure in figures.items()}
    return Scores(values, steps, left_out, remarks, identical=identical)


def gauge_rows(
    source: Rows, gauges: str = DEFAULT_GAUGES, memory: int = MEMORY, *, strict: bool = True
) -> Figures:
    """Figures of one picture alone, as `gauge` gives them, read in bands.

    Parameters
    ----------
    source : Rows
    gauges : str
        Those that add up over parts.
    memory : int
        Bytes that may be used.
    strict : bool
        Whether a gauge that needs the whole picture, or a larger one, is an error; if not, it is
        left out.

    Raises
    ------
    PictureError
        If the picture's size or colour does not suit a gauge.
    ChainError, InputError, LimitError
        As in `DegradedRows`.
    """
    steps = parse_figures(gauges, "gauge")
    figures, left_out = _taken_apart(steps, source, strict)
    _, remarks = _add_up(figures, _GAUGED, memory, source)
    values = {label: figure.value() for label, figure in figures.items()}
    return Figures(values, steps, left_out, remarks)


def _taken_apart(
    steps: Sequence[Step], source: Rows, strict: bool
) -> tuple[dict[str, _Adding], dict[str, str]]:
    """Figures to be added up, and why others are not."""
    apart, left_out = {}, {}
    for step in steps:
        try:
            figure = _Adding(step, source.frame)
            _try(figure.bound, source.frame)
            apart[str(step)] = figure
        except InputError as error:
            if strict:
                raise
            left_out[str(step)] = str(error)
    return apart, left_out


def _try(figure: Bound, frame: Frame) -> None:
    """Raise the errors of a figure for pictures of this size and colour."""
    scale, (height, width, *channels) = Scale.of(figure), frame.shape
    shape = (min(height, _TRIED), min(width, _TRIED), *channels)
    grain = np.random.default_rng(0).uniform(0, scale.peak, shape)
    kinds = (np.uint8, np.uint16) if scale.whole else (np.float64, np.float64)
    samples = grain.astype(kinds[scale.peak > 255])
    others = [samples[::-1]] if figure.method.kind == "metric" else []
    figure.call(samples, *others, scale.peak)


def _add_up(
    figures: Mapping[str, _Adding], cost: float, memory: int, *sources: Rows
) -> tuple[bool, list[str]]:
    """Take all bands; whether the samples of the sources are the same, and remarks."""
    frame = sources[0].frame
    overlap = max((figure.overlap for figure in figures.values()), default=0)
    clipping = [label for label, figure in figures.items() if figure.clips]
    height = band_height(frame, cost, memory, overlap)
    identical, beyond = True, [0] * len(sources)
    for band in in_bands(height, *sources, after=overlap):
        first, *others = band.pictures
        identical = identical and all(first.same_samples(other) for other in others)
        with Sharing().open():
            jobs = [(figure, copy_context()) for figure in figures.values()]
            spread(partial(_add, band, frame), jobs)
        if clipping:
            own = [replace(p, samples=p.samples[band.own]) for p in band.pictures]
            beyond = [n + samples_beyond(p) for n, p in zip(beyond, own, strict=True)]
    remarks = [
        remark
        for source, count in zip(sources, beyond, strict=True)
        for remark in clip_remark(source.origin, count, frame, clipping)
    ]
    return identical, remarks


def _add(band: Band, frame: Frame, job: Job) -> None:
    job[1].run(job[0].add, band, frame)


class _Adding:
    """A figure that is added up over bands, for each of the planes that it is computed on."""

    def __init__(self, step: Step, frame: Frame) -> None:
        self._declared = step.declared(Figure)
        sums = self._declared.sums
        if sums is None or (sums.digital and frame.bits is None):
            raise InputError(
                f"{step}: needs the whole picture; leave it out, or allow more memory (--memory)"
            )
        self.bound, self._sums = bind_step(step, frame), sums
        self._scale = Scale.of(self.bound)
        self._settings = self.bound.settings | {"peak": self._scale.peak}
        self.overlap = sums.shared_rows(**self._settings)
        self._totals: list[Totals] = []

    @property
    def clips(self) -> bool:
        """Whether samples outside the range count as black or full scale."""
        return self._declared.clips

    def add(self, band: Band, frame: Frame) -> None:
        """Add a band."""
        rows = len(range(*band.rows.indices(frame.height)))
        own = slice(0, rows + self.overlap)
        last = band.rows.start + rows + self.overlap >= frame.height
        part = Part(rows, band.rows.start == 0, last)
        if band.pictures[0].height <= self.overlap and self._totals and not self._sums.all_rows:
            return  # no window begins in the last rows
        planes = zip(*(self._planes(picture, own) for picture in band.pictures), strict=True)
        new = [self._sums.of_part(*plane, part=part, **self._settings) for plane in planes]
        old = self._totals
        combine = self._sums.combine
        self._totals = [combine(a, b) for a, b in zip(old, new, strict=True)] if old else new

    def _planes(self, picture: Picture, rows: slice) -> list[Samples]:
        samples = self._scale.samples(picture)
        if samples.ndim == 2 or self._declared.colour is ColourPolicy.JOINT:
            return [samples[rows]]
        if self._declared.colour is ColourPolicy.LUMA:
            return [shared("luma", luma, samples)[rows]]
        return [plane[rows] for plane in shared("planes", _split, samples)]

    def value(self, identical: bool = False) -> float:
        """The figure on the common scale."""
        same = self._declared.identical if isinstance(self._declared, Metric) else None
        if identical and same is not None:
            return same
        parts = [self._sums.score(totals, **self._settings) for totals in self._totals]
        return self._scale.common(float(np.mean(parts)))


def _split(samples: Samples) -> list[Samples]:
    return [np.ascontiguousarray(samples[..., c]) for c in range(samples.shape[2])]
