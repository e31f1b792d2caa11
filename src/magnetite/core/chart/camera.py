"""A measured camera as a chain that gives clean pictures the same."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.chart.result import ChartMeasurement
from magnetite.core.quantities import significant

#: Gains of the light that are left out as 1.
_SAME = 0.002
#: Effects without a step that are small enough not to be mentioned: fall-off and distortion in the
#: corners, %; shift of a colour, px; mean colour error, ΔE00.
_FALLOFF, _DISTORTION, _SHIFT, _COLOURS = 1.0, 0.1, 0.2, 2.0


class Camera(NamedTuple):
    """Steps for clean, sRGB-encoded pictures, and the effects that they leave out."""

    steps: str
    #: Linear and encoded values of the tone curve, shape (n, 2), if the steps need a file of it.
    curve: Float64 | None
    remarks: tuple[str, ...]


def camera_of(measured: ChartMeasurement, curve_file: str = "tone.csv") -> Camera:
    """The chain of a measured camera.

    Blur is the median of those that explain the edges; exposure the light at full scale; noise
    that of green (or gray); the tone curve the measured one.

    Parameters
    ----------
    measured : ChartMeasurement
    curve_file : str
        Name of the file of the tone curve's points, where one is needed.

    Returns
    -------
    Camera
    """
    remarks: list[str] = []
    steps = ["to-linear standard=srgb"]
    steps += _blur(measured, remarks)
    steps += _exposure(measured)
    model = measured.main_noise
    if model is None or not math.isfinite(model.full_well.value):
        remarks.append("the chain has no noise: none was measured")
    else:
        words = f"sensor-noise full-well={significant(model.full_well.value, 5)}e"
        words += f" read={model.read_electrons.value:.4g}e"
        if model.prnu.low > 0:
            words += f" prnu={100 * model.prnu.value:.3g}%"
        steps.append(words)
        if abs(model.correlation) > 0.1:
            remarks.append(
                f"the camera's noise is correlated ({model.correlation:.2f} from sample to "
                "sample), and the chain's is white"
            )
    curve = None
    if measured.tone.kind in ("srgb", "bt709"):
        steps.append(f"to-encoded standard={measured.tone.kind}")
    elif measured.tone.kind == "measured":
        steps.append(f"to-encoded points={curve_file}")
        curve = _curve(measured)
    elif (black := measured.tone.black_level) is not None and abs(black.value) > 1e-4:
        remarks.append(f"the black level of {100 * black.value:.2g} % of full scale is left out")
    return Camera(" + ".join(steps), curve, (*remarks, *_omitted(measured)))


def _omitted(measured: ChartMeasurement) -> Iterator[str]:
    """Remarks on the measured effects that no step of the chain has."""
    falloff, colours = measured.falloff.corners, measured.colours
    if falloff is not None and abs(falloff.value) > _FALLOFF:
        yield f"the fall-off of {falloff.value:.1f} % is left out"
    if abs(measured.distortion.value) > _DISTORTION:
        yield f"the distortion of {measured.distortion.value:.2g} % is left out"
    for shift in measured.shifts:
        if shift.largest > _SHIFT:
            yield f"the shift of {shift.channel}, up to {shift.largest:.2g} px, is left out"
    if colours is not None and colours.mean.value > _COLOURS:
        yield f"the colour error of {colours.mean.value:.1f} ΔE00 is left out"


def _blur(measured: ChartMeasurement, remarks: list[str]) -> list[str]:
    """The kind of blur that explains most edges, with the median of its width."""
    blurs = [e.edge.blurs[0].step for e in measured.edges if e.edge is not None and e.edge.blurs]
    count = sum(e.edge is not None for e in measured.edges)
    if len(blurs) <= count / 2:
        remarks.append("the chain has no blur: none explains most of the edges")
        return []
    kind = Counter(step.split("=")[0] for step in blurs).most_common(1)[0][0]
    widths = [
        float(step.split("=")[1].removesuffix("px")) for step in blurs if step.startswith(kind)
    ]
    return [f"{kind}={np.median(widths):.4g}px"]


def _exposure(measured: ChartMeasurement) -> list[str]:
    """Gains from the chart's light to shares of full scale."""
    channels = len(measured.tone.decoders)
    gains = 1 / measured.tone.decode(np.ones((1, channels)))[0]
    if (np.abs(gains - 1) < _SAME).all():
        return []
    if channels == 1:
        return [f"contrast factor={gains[0]:.5g} about=0%"]
    red, green, blue = (f"{gain:.5g}" for gain in gains)
    return [f"white-balance red={red} green={green} blue={blue}"]


def _curve(measured: ChartMeasurement) -> Float64:
    """Tone curve of green or gray: shares of the light at full scale, and encoded values."""
    channel = len(measured.tone.decoders) // 2
    full = float(measured.tone.decode(np.ones((1, len(measured.tone.decoders))))[0, channel])
    level = measured.tone.level[:, channel]
    inside = np.column_stack([measured.tone.light / full, level])
    points = np.concatenate([[[0, 0]], inside[(level > 0) & (level < 1)], [[1, 1]]])
    rising = [0]
    for k in range(1, len(points)):
        if (points[k] > points[rising[-1]]).all():
            rising.append(k)
    return np.asarray(points[rising])
