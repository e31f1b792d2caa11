"""Figures of pictures of any size by metrics and gauges: measure, note the rest."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from contextvars import Context, copy_context
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import Bound, bind_step
from magnetite.core.chain.step import Step
from magnetite.core.compute.sharing import Sharing, shared
from magnetite.core.compute.threads import spread
from magnetite.core.errors import InputError, PictureError
from magnetite.core.methods import declarations
from magnetite.core.methods.context import Files
from magnetite.core.methods.declarations import ColourPolicy
from magnetite.core.methods.lifting import computed, split
from magnetite.core.methods.sums import Part, Totals
from magnetite.core.picture import Frame, Picture
from magnetite.core.picture.matching import COMMON_SCALE
from magnetite.core.picture.picture import luma
from magnetite.core.picture.rows import UNBOUNDED, Allowance, Band, Rows, in_bands
from magnetite.core.quantities import percent
from magnetite.core.table import Row, Tabular

#: Figures of pictures with up to this many samples are computed side by side; larger ones would
#: take the memory of several metrics at once.
_SMALL = 2**24
#: Bytes for each sample that scoring takes in bands: two pictures, two bands of each, and their
#: planes; of float pictures also in float64. The same of gauges: two that work on float64.
_SCORED, _SCORED_FLOAT, _GAUGED = 16.0, 48.0, 80.0
#: Sides of a picture on which it is tried whether a figure takes one of that size and colour.
_TRIED = 64


class Figures(dict[str, float], Tabular):
    """Figures by the canonical text of their metric or gauge.

    `left_out` says why something that was asked for has no figure, `remarks` are notes on the
    others; `steps` are the figures measured. `identical` says whether the samples of a pair are.
    """

    def __init__(
        self,
        figures: Mapping[str, float],
        steps: Sequence[Step] = (),
        left_out: Mapping[str, str] | None = None,
        remarks: Sequence[str] = (),
        identical: bool = False,
    ) -> None:
        super().__init__(figures)
        self.steps = tuple(steps)
        self.left_out = dict(left_out or {})
        self.remarks = tuple(remarks)
        self.identical = identical

    def only(self, steps: Sequence[Step]) -> Figures:
        """Those of some of the metrics or gauges."""
        labels = [str(step) for step in steps]
        return Figures(
            {label: self[label] for label in labels if label in self}, steps,
            {label: self.left_out[label] for label in labels if label in self.left_out},
            self.remarks, self.identical,
        )  # fmt: skip

    def check_any(self) -> None:
        """Raise `PictureError`, with the first reason, where all that was asked for is left out."""
        if self.left_out and not self:
            raise PictureError(next(iter(self.left_out.values())))

    def unit(self, label: str) -> str:
        """Unit of a figure; empty where it has none."""
        step = next(step for step in self.steps if str(step) == label)
        return step.declared(declarations.Figure).unit

    def rows(self) -> list[Row]:
        """A row for each figure."""
        return [Row(label, value, self.unit(label)) for label, value in self.items()]

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (
            dict(self), self.steps, self.left_out, self.remarks, self.identical,
        )  # fmt: skip


def measured(
    steps: Iterable[Step],
    *sources: Rows,
    strict: bool,
    allowance: Allowance = UNBOUNDED,
    sharing: Sharing | None = None,
    files: Files | None = None,
    within: Samples | None = None,
) -> Figures:
    """Figures of a picture, or of a pair, with full scale at `COMMON_SCALE`.

    Parameters
    ----------
    steps : Steps
        Metrics for a pair, gauges for one picture.
    sources : Rows
        A picture; or a reference and its test, of one size.
    strict : bool
        Whether a figure that the pictures do not suit is an error; if not, it is left out.
    allowance : Allowance
        Larger pictures are measured in bands: by figures that are sums over parts.
    sharing : Sharing, optional
        Keeps shared results of the first picture of a pair.
    files : Files, optional
        Reads files that settings name.
    within : array of bool, shape (h, w), optional
        Samples of a pair that are scored.

    Raises
    ------
    PictureError
        If strict, and a figure does not suit the pictures.
    InputError
        If a figure needs the whole picture, which has more samples than are allowed.
    """
    steps, frame, allowance = list(steps), sources[0].frame, allowance.of(*sources)
    bound = {str(step): bind_step(step, frame, files) for step in steps}
    height, figures, left_out = _measurable(bound, frame, len(sources), strict, allowance)
    if height == frame.height:
        figures = {label: _Whole(one, strict, within) for label, one in bound.items()}
    overlap = max((figure.overlap for figure in figures.values()), default=0)
    clipping = [k for k, one in bound.items() if one.step.declared(declarations.Figure).clips]
    identical, beyond = True, [0] * len(sources)
    for band in in_bands(height, *sources, after=overlap):
        identical = identical and _same(band.pictures, within)
        _add(band, frame, figures, sharing if height == frame.height and sharing else Sharing())
        if clipping:
            parts = [picture.part(band.own) for picture in band.pictures]
            beyond = [n + _beyond(part, within) for n, part in zip(beyond, parts, strict=True)]
    found = {label: figure.value(identical) for label, figure in figures.items()}
    values = {label: value for label, value in found.items() if isinstance(value, float)}
    left_out |= {label: value for label, value in found.items() if isinstance(value, str)}
    clipped = [label for label in clipping if label in values]
    positions = frame.height * frame.width if within is None else np.count_nonzero(within)
    scored = int(positions) * frame.channels
    remarks = [
        remark
        for source, count in zip(sources, beyond, strict=True)
        for remark in _clip_remark(source.origin, count / scored, clipped)
    ]
    return Figures(values, steps, left_out, remarks, identical)


class _Accumulator(Protocol):
    """A figure that is computed while the pictures pass in bands."""

    #: Rows that a band shares with the next.
    overlap: int

    def add(self, band: Band, frame: Frame) -> None:
        """Take a band of pictures of a frame."""

    def value(self, identical: bool) -> float | str:
        """The figure on the common scale, or why the pictures do not suit it."""


def _measurable(
    bound: Mapping[str, Bound], frame: Frame, pictures: int, strict: bool, allowance: Allowance
) -> tuple[int, Mapping[str, _Accumulator], dict[str, str]]:
    """Rows of a band, the figures that are sums over bands, and why others are left out.

    Of figures that may be left out, those that need the whole picture are where it has more
    samples than are allowed.
    """
    if allowance.fits(frame):
        return frame.height, {}, {}
    figures: dict[str, _Adding] = {}
    left_out: dict[str, str] = {}
    obstacle: InputError | None = None
    for label, one in bound.items():
        try:
            figure = _Adding(one, strict)
            _try(one, frame)
            figures[label] = figure
        except PictureError as error:
            if strict:
                raise
            left_out[label] = str(error)
        except InputError as error:
            left_out[label], obstacle = str(error), obstacle or error
    overlap = max((figure.overlap for figure in figures.values()), default=0)
    cost = _GAUGED if pictures == 1 else _SCORED if frame.bits else _SCORED_FLOAT
    if obstacle is not None and (strict or math.prod(frame.shape) <= allowance.samples):
        return allowance.height(frame, cost, overlap, obstacle), {}, {}
    return allowance.height(frame, cost, overlap, None), figures, left_out


def _try(figure: Bound, frame: Frame) -> None:
    """Raise the errors of a figure for pictures of this size and colour."""
    scale, (height, width, *channels) = Scale.of(figure), frame.shape
    shape = (min(height, _TRIED), min(width, _TRIED), *channels)
    grain = np.random.default_rng(0).uniform(0, scale.peak, shape)
    kinds = (np.uint8, np.uint16) if scale.whole else (np.float64, np.float64)
    samples = grain.astype(kinds[scale.peak > COMMON_SCALE])
    others = [samples[::-1]] if figure.method.kind == "metric" else []
    figure.call(samples, *others, scale.peak)


def _same(pictures: Sequence[Picture], within: Samples | None) -> bool:
    first, *others = pictures
    if within is None:
        return all(first.same_samples(other) for other in others)
    return all(np.array_equal(first.samples[within], one.samples[within]) for one in others)


def _add(band: Band, frame: Frame, figures: Mapping[str, _Accumulator], sharing: Sharing) -> None:
    """Take a band; results that several figures need are computed once."""
    test = band.pictures[-1]
    sharing.passing(test)
    sharing.passing(test.samples)
    with sharing.open():
        jobs = [(figure, copy_context()) for figure in figures.values()]

        def work(job: tuple[_Accumulator, Context]) -> None:
            job[1].run(job[0].add, band, frame)

        small = test.samples.size <= _SMALL
        list(spread(work, jobs) if small else map(work, jobs))
    sharing.forget()


class _Whole:
    """A figure that gets all of the pictures in the only band."""

    overlap = 0

    def __init__(self, bound: Bound, strict: bool, within: Samples | None) -> None:
        self._bound, self._strict = bound, strict
        self._part = {} if within is None else {"within": within}

    def add(self, band: Band, frame: Frame) -> None:
        scale = Scale.of(self._bound)
        try:
            samples = [scale.samples(picture) for picture in band.pictures]
            figure = float(self._bound.call(*samples, scale.peak, **self._part))
            self._value: float | str = scale.common(figure)
        except PictureError as error:
            if self._strict:
                raise
            self._value = str(error)

    def value(self, identical: bool) -> float | str:
        return self._value


class _Adding:
    """A figure that is added up over bands, for each of the planes that it is computed on."""

    def __init__(self, bound: Bound, strict: bool) -> None:
        self._declared = bound.step.declared(declarations.Figure)
        sums = self._declared.sums
        if sums is None or (sums.digital and bound.frame.bits is None):
            raise InputError(
                f"{bound.step}: needs the whole picture; leave it out, or allow more memory "
                "(--memory)"
            )
        self._bound, self._sums, self._strict = bound, sums, strict
        self._scale = Scale.of(bound)
        self._settings = bound.settings | {"peak": self._scale.peak}
        self.overlap = sums.shared_rows(**self._settings)
        self._totals: list[Totals] = []
        self._reason: str | None = None

    def add(self, band: Band, frame: Frame) -> None:
        rows = len(range(*band.rows.indices(frame.height)))
        own = slice(0, rows + self.overlap)
        last = band.rows.start + rows + self.overlap >= frame.height
        part = Part(rows, band.rows.start == 0, last)
        if band.pictures[0].height <= self.overlap and self._totals and not self._sums.all_rows:
            return  # no window begins in the last rows
        pictures = [self._planes(picture, own) for picture in band.pictures]
        planes = list(zip(*pictures, strict=True))

        def totals() -> list[Totals]:
            return [self._sums.of_part(*plane, part=part, **self._settings) for plane in planes]

        try:
            new = computed(self._bound.step.name, totals, planes[0], self._scale.peak)
        except PictureError as error:
            if self._strict:
                raise
            self._reason = str(error)
            return
        old, combine = self._totals, self._sums.combine
        self._totals = [combine(a, b) for a, b in zip(old, new, strict=True)] if old else new

    def _planes(self, picture: Picture, rows: slice) -> list[Samples]:
        samples = self._scale.samples(picture)
        if samples.ndim == 2 or self._declared.colour is ColourPolicy.JOINT:
            return [samples[rows]]
        if self._declared.colour is ColourPolicy.LUMA:
            return [shared(luma, samples)[rows]]
        return [plane[rows] for plane in shared(split, samples)]

    def value(self, identical: bool) -> float | str:
        declared = self._declared
        same = declared.identical if isinstance(declared, declarations.Metric) else None
        if self._reason is not None:
            return self._reason
        if identical and same is not None:
            return same
        parts = [self._sums.score(totals, **self._settings) for totals in self._totals]
        return self._scale.common(float(np.mean(parts)))


@dataclass(frozen=True)
class Scale:
    """The scale on which a metric or gauge gets samples, and its figure on the common one."""

    #: Whether it gets whole numbers as the picture stores them.
    whole: bool
    #: Full scale.
    peak: float
    #: The power of full scale that the figure grows with.
    power: int

    @classmethod
    def of(cls, step: Bound) -> Scale:
        """That of a metric or gauge for pictures of the frame that it is bound to."""
        figure = step.step.declared(declarations.Figure)
        whole = figure.takes_integers and step.frame.bits is not None
        return cls(whole, step.frame.full_scale if whole else COMMON_SCALE, figure.power)

    def samples(self, picture: Picture) -> Samples:
        """A picture's samples on this scale."""
        return picture.samples if self.whole else shared(_on_common_scale, picture)

    def common(self, figure: float) -> float:
        """A figure of this scale on that of 8 bits."""
        return figure * (COMMON_SCALE / self.peak) ** self.power


def _on_common_scale(picture: Picture) -> Samples:
    return picture.on_scale(COMMON_SCALE)


def _beyond(picture: Picture, within: Samples | None) -> int:
    """Number of the samples scored that lie beyond black and full scale."""
    if picture.bits is not None:
        return 0
    samples = picture.samples if within is None else picture.samples[within]
    return int(np.count_nonzero((samples < 0) | (samples > picture.full_scale)))


def _clip_remark(origin: str, beyond: float, labels: Sequence[str]) -> list[str]:
    """Remark on the share of samples beyond the range, which figures clip; empty if it is 0."""
    if beyond == 0 or not labels:
        return []
    return [
        f"{origin}: {percent(beyond)} of the samples lie beyond black and full scale; "
        f"{', '.join(labels)} take them for these"
    ]
