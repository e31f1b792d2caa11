"""Figures of pictures by metrics and gauges: read the list, measure, note figures left out."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from contextvars import Context, copy_context
from dataclasses import dataclass
from typing import Any

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import Bound, bind_step
from magnetite.core.chain.notation import parse_step
from magnetite.core.chain.step import Step
from magnetite.core.compute.sharing import Sharing, shared
from magnetite.core.compute.threads import spread
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.methods import declarations
from magnetite.core.methods.catalogue import declared_by, every
from magnetite.core.methods.parameters import Files
from magnetite.core.picture import Frame, Picture
from magnetite.core.picture.matching import COMMON_SCALE
from magnetite.core.rows import Row, data_frame

#: Every metric or gauge that applies to the given pictures.
ALL = "all"
#: Figures of pictures with up to this many samples are computed side by side; larger ones would
#: take the memory of several metrics at once.
_SMALL = 2**24


class Figures(dict[str, float]):
    """Figures by the canonical text of their metric or gauge.

    `left_out` says why something that was asked for has no figure, `remarks` are notes on the
    others; `steps` are the figures measured.
    """

    def __init__(
        self,
        figures: Mapping[str, float],
        steps: Sequence[Step] = (),
        left_out: Mapping[str, str] | None = None,
        remarks: Sequence[str] = (),
    ) -> None:
        super().__init__(figures)
        self.steps = tuple(steps)
        self.left_out = dict(left_out or {})
        self.remarks = tuple(remarks)

    def only(self, steps: Sequence[Step]) -> Figures:
        """Those of some of the metrics or gauges."""
        labels = [str(step) for step in steps]
        return Figures(
            {label: self[label] for label in labels if label in self}, steps,
            {label: self.left_out[label] for label in labels if label in self.left_out},
            self.remarks,
        )  # fmt: skip

    def unit(self, label: str) -> str:
        """Unit of a figure; empty where it has none."""
        step = next(step for step in self.steps if str(step) == label)
        return step.declared(declarations.Figure).unit

    def rows(self) -> list[Row]:
        """A row for each figure."""
        return [Row(label, value, self.unit(label)) for label, value in self.items()]

    def frame(self) -> Any:
        """The rows as a pandas data frame."""
        return data_frame(self.rows())

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (dict(self), self.steps, self.left_out, self.remarks)


#: Names with settings, or the function of a single figure of one's own.
Named = str | Callable[..., float]


def parse_figures(text: Named, kind: str) -> list[Step]:
    """Read a list such as `psnr,ssim window=7`, or `all`; `kind` is "metric" or "gauge"."""
    if not isinstance(text, str):
        method = declared_by(text)
        if method.kind != kind:
            raise ChainError(f"{method.name} is a {method.kind}, not a {kind}")
        return [Step(kind, method.name)]
    if text == ALL:
        return [Step(method.kind, method.name) for method in every(kind) if method.complete]
    steps = [parse_step(part, kind) for part in text.split(",")]
    labels = [str(step) for step in steps]
    for label in labels:
        if labels.count(label) > 1:
            raise ChainError(f"{label!r} is listed twice in {text!r}")
    return steps


def measured(
    steps: Sequence[Step],
    *pictures: Picture,
    strict: bool,
    sharing: Sharing | None = None,
    files: Files | None = None,
    **part: Any,
) -> Figures:
    """Figures of a picture, or of a pair, with full scale at `COMMON_SCALE`.

    Parameters
    ----------
    steps : list of Step
        Metrics for a pair, gauges for one picture.
    strict : bool
        Whether a figure that the pictures do not suit is an error; if not, it is left out.
    sharing : Sharing, optional
        Keeps shared results of the first picture of a pair.
    files : Files, optional
        Reads files that settings name.
    **part
        Inputs of metrics beside the pictures, such as `within`.
    """
    sharing = sharing or Sharing()
    frame = pictures[0].frame
    bound = {str(step): bind_step(step, frame, files) for step in steps}
    sharing.passing(pictures[-1])
    sharing.passing(pictures[-1].samples)
    with sharing.open():
        contexts = [(one, copy_context()) for one in bound.values()]

        def figure(job: tuple[Bound, Context]) -> float | str:
            return job[1].run(_figure, job[0], pictures, part, strict)

        small = pictures[0].samples.size <= _SMALL
        found = spread(figure, contexts) if small else list(map(figure, contexts))
    sharing.forget()
    values = {k: v for k, v in zip(bound, found, strict=True) if isinstance(v, float)}
    left_out = {k: v for k, v in zip(bound, found, strict=True) if isinstance(v, str)}
    return Figures(values, steps, left_out, _clip_remarks(bound, values, pictures))


def _figure(
    step: Bound, pictures: Sequence[Picture], part: Mapping[str, Any], strict: bool
) -> float | str:
    """The figure, or why the pictures do not suit it."""
    scale = Scale.of(step)
    try:
        samples = [scale.samples(picture) for picture in pictures]
        return scale.common(float(step.call(*samples, scale.peak, **part)))
    except PictureError as error:
        if strict:
            raise
        return str(error)


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
        return picture.samples if self.whole else shared("samples", _on_common_scale, picture)

    def common(self, figure: float) -> float:
        """A figure of this scale on that of 8 bits."""
        return figure * (COMMON_SCALE / self.peak) ** self.power


def _on_common_scale(picture: Picture) -> Samples:
    return picture.on_scale(COMMON_SCALE)


def _clip_remarks(
    bound: Mapping[str, Bound], values: Mapping[str, float], pictures: Sequence[Picture]
) -> list[str]:
    """Remark on samples beyond 0..1 that metrics clip."""
    labels = [
        label
        for label, one in bound.items()
        if label in values and one.step.declared(declarations.Figure).clips
    ]
    return [
        remark
        for picture in (pictures if labels else ())
        for remark in clip_remark(picture.origin, samples_beyond(picture), picture.frame, labels)
    ]


def samples_beyond(picture: Picture) -> int:
    """How many samples lie beyond black and full scale."""
    if picture.bits is not None:
        return 0
    return int(np.count_nonzero((picture.samples < 0) | (picture.samples > picture.full_scale)))


def clip_remark(origin: str, beyond: int, frame: Frame, labels: Sequence[str]) -> list[str]:
    """Remark on samples beyond the range that figures clip; empty if there are none."""
    if beyond == 0:
        return []
    return [
        f"{origin}: {beyond / math.prod(frame.shape):.3%} of the samples lie beyond black and full "
        f"scale; {', '.join(labels)} take them for these"
    ]
