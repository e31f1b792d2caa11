"""Score pictures against a reference, gauge pictures alone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from magnetite.core.chain import Step, parse_step
from magnetite.core.declarations import Figure
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.picture import Picture, Samples, as_picture
from magnetite.core.registry import every
from magnetite.core.sharing import Sharing, shared

#: Pictures of any depth are scored with full scale here, so that their figures compare.
COMMON_SCALE = 255.0
DEFAULT_METRICS = "mse,psnr,ssim"
#: Every metric or gauge that applies to the given pictures.
ALL = "all"
DEFAULT_GAUGES = "laplacian-variance"


class Figures(dict[str, float]):
    """Figures by the canonical text of their metric or gauge.

    `left_out` says why something that was asked for has no figure, `remarks` are notes on the
    others.
    """

    def __init__(
        self,
        figures: Mapping[str, float],
        left_out: Mapping[str, str] | None = None,
        remarks: Sequence[str] = (),
    ) -> None:
        super().__init__(figures)
        self.left_out = dict(left_out or {})
        self.remarks = tuple(remarks)


class Scores(Figures):
    """Scores by metric, and whether the pictures were identical."""

    def __init__(self, figures: Figures, identical: bool) -> None:
        super().__init__(figures, figures.left_out, figures.remarks)
        self.identical = identical

    def __reduce__(self) -> tuple[Any, ...]:
        return Scores, (Figures(self, self.left_out, self.remarks), self.identical)


def parse_metrics(text: str, kind: str) -> list[Step]:
    """Read a list such as `psnr,ssim window=7`, or `all`; `kind` is "metric" or "gauge"."""
    if text == ALL:
        return [Step(method.kind, method.name) for method in every(kind) if method.complete]
    steps = [parse_step(part, kind) for part in text.split(",")]
    labels = [str(step) for step in steps]
    for label in labels:
        if labels.count(label) > 1:
            raise ChainError(f"{label!r} is listed twice in {text!r}")
    return steps


def score(
    reference: Picture | Samples,
    test: Picture | Samples,
    metrics: str = DEFAULT_METRICS,
    *,
    mask: Samples | None = None,
    sharing: Sharing | None = None,
) -> Scores:
    """Score a test picture against its reference.

    Parameters
    ----------
    reference, test : Picture or array
        Of the same size, colour and bit depth.
    metrics : str
        Names with settings, separated by commas: `psnr,ssim window=7`; or `all`, which leaves
        out what does not apply to these pictures.
    mask : array, shape (h, w), optional
        Where to look: everything but 0 counts. Metrics of windows take those wholly inside.
    sharing : Sharing, optional
        Keeps what metrics share of the reference from one test to the next.

    Returns
    -------
    Scores
        A mapping from the metric's canonical text to its figure. Errors in dn are on the
        scale of 8 bits whatever the depth.

    Raises
    ------
    PictureError
        If the pictures do not match or are too small for a metric.
    ChainError
        If `metrics` cannot be read.
    """
    one, two = as_picture(reference), as_picture(test)
    steps = parse_metrics(metrics, "metric")
    check_comparable(one, two)
    strict, sharing = metrics != ALL, sharing or Sharing()
    if mask is None:
        return Scores(_measured(steps, strict, sharing, one, two), one.same_samples(two))
    within = np.asarray(mask) != 0
    figures = _measured(steps, strict, sharing, one, two, within=within)
    return Scores(figures, np.array_equal(one.samples[within], two.samples[within]))


def gauge(
    source: Picture | Samples, gauges: str = DEFAULT_GAUGES, *, strict: bool = True
) -> Figures:
    """Figures of one picture alone, by the gauge's canonical text.

    Parameters
    ----------
    source : Picture or array
    gauges : str
        Names with settings, separated by commas; or `all`, which leaves out what does not apply.
    strict : bool
        Whether a gauge that the picture does not suit is an error; if not, it is left out.

    Raises
    ------
    PictureError
        If the picture's size or colour does not suit a gauge.
    ChainError
        If `gauges` cannot be read.
    """
    picture = as_picture(source)
    steps = parse_metrics(gauges, "gauge")
    return _measured(steps, strict and gauges != ALL, Sharing(), picture)


def _measured(
    steps: list[Step], strict: bool, sharing: Sharing, *pictures: Picture, **part: Any
) -> Figures:
    """Figures by label; if not strict, also why some do not apply."""
    sharing.passing(pictures[-1])
    with sharing.open():
        samples = [shared("samples", _on_common_scale, picture) for picture in pictures]
        values, left_out = _computed(steps, strict, samples, pictures[0], part)
    sharing.forget()
    clipping = [str(step) for step in steps if step.declared(Figure).clips and str(step) in values]
    return Figures(values, left_out, _clip_remarks(clipping, pictures))


def _on_common_scale(picture: Picture) -> Samples:
    return picture.on_scale(COMMON_SCALE)


def _computed(
    steps: list[Step], strict: bool, samples: list[Samples], picture: Picture, part: dict[str, Any]
) -> tuple[dict[str, float], dict[str, str]]:
    values, left_out = {}, {}
    for step in steps:
        arguments = step.arguments(picture)
        try:
            values[str(step)] = float(
                step.method.function(*samples, COMMON_SCALE, **part, **arguments)
            )
        except PictureError as error:
            if strict:
                raise
            left_out[str(step)] = str(error)
    return values, left_out


def _clip_remarks(labels: list[str], pictures: Sequence[Picture]) -> list[str]:
    """What metrics that clip take off pictures that reach beyond 0..1."""
    remarks = []
    for picture in pictures if labels else ():
        beyond = int(
            np.count_nonzero((picture.samples < 0) | (picture.samples > picture.full_scale))
        )
        if beyond:
            remarks.append(
                f"{picture.origin}: {beyond / picture.samples.size:.3%} of the samples lie beyond "
                f"black and full scale; {', '.join(labels)} take them for these"
            )
    return remarks


def check_comparable(reference: Picture, test: Picture, *, any_depth: bool = False) -> None:
    """Raise `PictureError` unless size, colour and, if it matters, bit depth agree."""
    mismatch = f"{reference.origin} is {reference.describe()}, {test.origin} is {test.describe()}"
    if (reference.height, reference.width) != (test.height, test.width):
        raise PictureError(f"the sizes differ: {mismatch}; crop or resize one to the other's size")
    if (reference.colour, reference.channels) != (test.colour, test.channels):
        raise PictureError(f"the colours differ: {mismatch}; score the luma of both (gray)")
    if not any_depth:
        check_depths(reference, test)


def check_depths(reference: Picture, test: Picture) -> None:
    """Raise `PictureError` unless both pictures have one bit depth."""
    if reference.bits != test.bits:
        mismatch = (
            f"{reference.origin} is {reference.describe()}, {test.origin} is {test.describe()}"
        )
        raise PictureError(
            f"the bit depths differ: {mismatch}; bring both to one scale (mixed depths)"
        )
