"""Score pictures against a reference, gauge pictures alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from magnetite.core.chain import Step, parse_step
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.picture import Picture, Samples, as_picture
from magnetite.core.registry import every

#: Pictures of any depth are scored with full scale here, so that their figures compare.
COMMON_SCALE = 255.0
DEFAULT_METRICS = "mse,psnr,ssim"
#: Every metric or gauge that applies to the pictures at hand.
ALL = "all"
DEFAULT_GAUGES = "laplacian-variance"


@dataclass(frozen=True)
class Scores(Mapping[str, float]):
    """Scores by metric label, and whether the pictures were identical."""

    values_by_label: dict[str, float]
    identical: bool
    #: Why a metric of `all` does not apply, by its label.
    left_out: dict[str, str] = field(default_factory=dict)

    def __getitem__(self, label: str) -> float:
        return self.values_by_label[label]

    def __iter__(self) -> Any:
        return iter(self.values_by_label)

    def __len__(self) -> int:
        return len(self.values_by_label)


def parse_metrics(text: str, kind: str) -> list[Step]:
    """Read a list such as `psnr,ssim window=7`, or `all`; `kind` is "metric" or "gauge"."""
    if text == ALL:
        return [Step(method) for method in every(kind) if method.complete]
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
    if mask is None:
        values, left_out = _measured(steps, metrics, one, two)
        return Scores(values, one.same_samples(two), left_out)
    within = np.asarray(mask) != 0
    values, left_out = _measured(steps, metrics, one, two, within=within)
    return Scores(values, np.array_equal(one.samples[within], two.samples[within]), left_out)


def gauge(source: Picture | Samples, gauges: str = DEFAULT_GAUGES) -> dict[str, float]:
    """Figures of one picture alone, by the gauge's canonical text.

    Raises
    ------
    PictureError
        If the picture's size or colour does not suit a gauge.
    """
    picture = as_picture(source)
    steps = parse_metrics(gauges, "gauge")
    return _measured(steps, gauges, picture)[0]


def _measured(
    steps: list[Step], text: str, *pictures: Picture, **part: Any
) -> tuple[dict[str, float], dict[str, str]]:
    """Figures by label; of `all`, also why some do not apply."""
    samples = [picture.on_scale(COMMON_SCALE) for picture in pictures]
    values, left_out = {}, {}
    for step in steps:
        arguments = step.arguments(pictures[0])
        try:
            values[str(step)] = float(
                step.method.function(*samples, COMMON_SCALE, **part, **arguments)
            )
        except PictureError as error:
            if text != ALL:
                raise
            left_out[str(step)] = str(error)
    return values, left_out


def check_comparable(reference: Picture, test: Picture, *, any_depth: bool = False) -> None:
    """Raise `PictureError` unless size, colour and, if it matters, bit depth agree."""
    mismatch = f"{reference.origin} is {reference.describe()}, {test.origin} is {test.describe()}"
    if (reference.height, reference.width) != (test.height, test.width):
        raise PictureError(f"the sizes differ: {mismatch}; crop or resize one to the other's size")
    if (reference.colour, reference.channels) != (test.colour, test.channels):
        raise PictureError(f"the colours differ: {mismatch}; --gray scores the luma of both")
    if reference.bits != test.bits and not any_depth:
        raise PictureError(
            f"the bit depths differ: {mismatch}; --mixed-depths scores both on one scale"
        )
