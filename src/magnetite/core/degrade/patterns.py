"""Noise with a structure in space: periodic interference, and noise of a coloured spectrum."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np

from magnetite.core.arrays import Float32, Float64, Pixels
from magnetite.core.compute.bands import bands
from magnetite.core.compute.random import fill, normal
from magnetite.core.compute.threads import spread, threads
from magnetite.core.degrade._strength import Channels
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.degrade.certify.period import measured_period
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Angle, Length, Number

Wave = Annotated[Literal["sine", "square"], "shape of the wave"]
#: Rows of the spectrum that are worked on at a time.
_ROWS = 64


def _certify_banding(
    change: Change, *, amplitude: float, period: float, angle: float, phase: float, wave: Wave
) -> list[Finding]:
    pattern = _wave(change.before.shape, period, angle, phase, wave)
    power = float(np.vdot(pattern, pattern)) * change.before.size / pattern.size

    def projected(samples: Pixels) -> float:
        return float(np.sum((samples - change.before) * pattern, dtype=np.float64)) / power

    if power == 0:
        return []
    stripes = np.subtract(change.drawn, change.before, dtype=np.float64)
    stripes = stripes.reshape(*stripes.shape[:2], -1).mean(axis=2)
    return [
        Finding("amplitude", "fs", amplitude, projected(change.drawn), projected(change.stored)),
        Finding("period", "px", period, measured_period(stripes, period, angle, wave == "sine")),
    ]


@degradation(
    "banding",
    summary="Add periodic interference: stripes of a period, direction and amplitude.",
    colour=ColourPolicy.JOINT,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 5.2",
    certify=_certify_banding,
)
def banding(
    pixels: Pixels,
    *,
    amplitude: Annotated[float, Amplitude(), "half of the height from trough to crest"],
    period: Annotated[float, Length(2, 10_000), "distance of the crests"] = 8.0,
    angle: Annotated[
        float,
        Angle(),
        "direction of the variation, counter-clockwise from the x axis: 90 gives rows, 0 columns",
    ] = 90.0,
    phase: Annotated[float, Angle(), "phase at the upper left corner"] = 0.0,
    wave: Wave = "sine",
) -> Pixels:
    """Add `amplitude sin(2π (x cos angle - y sin angle) / period + phase)`.

    Not clipped.
    """
    pattern = _wave(pixels.shape, period, angle, phase, wave)
    return pixels + (amplitude * pattern).astype(pixels.dtype)


def _wave(shape: tuple[int, ...], period: float, angle: float, phase: float, wave: Wave) -> Float64:
    """The interference at amplitude 1, shape (h, w) or (h, w, 1)."""
    turn = math.radians(angle)
    y = np.arange(shape[0])[:, np.newaxis] * -math.sin(turn)
    x = np.arange(shape[1])[np.newaxis] * math.cos(turn)
    pattern = np.sin(2 * math.pi / period * (x + y) + math.radians(phase))
    if wave == "square":
        pattern = np.where(pattern >= 0, 1.0, -1.0)
    return pattern.reshape(*pattern.shape, *(1,) * (len(shape) - 2))


def _certify_coloured(change: Change, *, sd: float, slope: float, channels: str) -> list[Finding]:
    if sd == 0:
        return []
    residual = np.subtract(change.drawn, change.before)
    stored = np.subtract(change.stored, change.before)
    planes = np.moveaxis(residual.reshape(*residual.shape[:2], -1), -1, 0)
    if channels == "common":
        planes = planes[:1]
    _, total, fourth = _power_law(residual.shape[:2], slope)
    # The variance is a sum over frequencies, each of exponential distribution: few strong
    # ones make the measured sd uncertain.
    error = sd * math.sqrt(fourth) / max(total, 1e-30) / 2
    findings = [
        Finding(
            "sd", "fs", sd, float(residual.std(dtype=np.float64)),
            float(stored.std(dtype=np.float64)), error * math.sqrt(2 / len(planes)),
        )
    ]  # fmt: skip
    if min(residual.shape[:2]) < 8:
        return findings
    slopes, slope_error = zip(*map(_measured_slope, planes), strict=True)
    findings.append(
        Finding(
            "spectral slope", "", slope, float(np.mean(slopes)), None,
            slope_error[0] / math.sqrt(len(planes)),
        )
    )  # fmt: skip
    return findings


@degradation(
    "coloured-noise",
    summary="Add noise whose power falls with a power of the frequency: correlated, cloudy.",
    colour=ColourPolicy.JOINT,
    source="Voss, in The Science of Fractal Images (1988), chapter 1; Field, JOSA A 4(12), 1987, "
    "doi:10.1364/JOSAA.4.002379",
    certify=_certify_coloured,
)
def coloured_noise(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    sd: Annotated[
        float,
        Amplitude(),
        "expected standard deviation; one picture may stray where the slope is steep",
    ],
    slope: Annotated[
        float, Number(0, 4), "exponent of the power spectrum: 0 white, 1 pink, 2 brown"
    ] = 1.0,
    channels: Channels = "independent",
) -> Pixels:
    """Add normal noise of power spectrum `f^-slope`, periodic over the picture, of mean 0.

    Not clipped.
    """
    size = pixels.shape[:2]
    amplitude, total, _ = _power_law(size, slope)
    if total == 0:
        return pixels.copy()
    amplitude *= np.float32(sd * size[0] * size[1] / math.sqrt(total))
    # Real and imaginary part have half the power each; the columns that are their own mirror
    # image keep the real half of the numbers drawn.
    amplitude[:, 1 : (size[1] + 1) // 2] *= np.float32(math.sqrt(0.5))
    if pixels.ndim == 2:
        return _waves(rng, amplitude, size, pixels)
    if channels == "common":
        noise = _waves(rng, amplitude, size, np.zeros(size, np.float32))
        return np.add(pixels, noise[..., np.newaxis])
    planes = [_waves(rng, amplitude, size, pixels[..., c]) for c in range(pixels.shape[2])]
    return np.stack(planes, axis=-1)


def _waves(
    rng: np.random.Generator, amplitude: Float32, size: tuple[int, ...], onto: Pixels
) -> Pixels:
    """Random waves of given amplitudes, added to a plane."""
    from scipy.fft import irfft2

    spectrum = np.empty(amplitude.shape, np.complex64)

    def sample(child: np.random.Generator, waves: Any, heights: Any) -> None:
        normal(child, waves.view(np.float32))
        waves *= heights

    fill(rng, [spectrum.reshape(-1), amplitude.reshape(-1)], sample)
    noise: Pixels = irfft2(spectrum, s=size, workers=threads(), overwrite_x=True)
    if onto.dtype != noise.dtype:
        return np.add(noise, onto)
    noise += onto
    return noise


def _power_law(size: tuple[int, int], slope: float) -> tuple[Float32, float, float]:
    """Relative amplitude at each frequency of the half plane, shape (h, w // 2 + 1).

    Besides, the sums of its square and its fourth power over the whole plane.
    """
    fy = np.fft.fftfreq(size[0]).astype(np.float32)[:, np.newaxis]
    fx = np.fft.rfftfreq(size[1]).astype(np.float32)[np.newaxis]
    # Every column counts for its mirror image too, but those that are their own.
    weight = np.full(fx.size, 2.0)
    weight[0] = 1
    if size[1] % 2 == 0:
        weight[-1] = 1
    amplitude = np.empty((fy.size, fx.size), np.float32)

    def work(rows: slice) -> tuple[float, float]:
        part = amplitude[rows]
        np.add(fy[rows] ** 2, fx**2, out=part)
        if rows.start == 0:
            part[0, 0] = np.inf
        np.power(part, np.float32(-slope / 4), out=part)
        if rows.start == 0:
            part[0, 0] = 0
        squares = part * part
        columns = squares.sum(axis=0), np.einsum("ij,ij->j", squares, squares)
        return float(columns[0] @ weight), float(columns[1] @ weight)

    sums = np.sum(spread(work, bands(fy.size, _ROWS)), axis=0)
    return amplitude, float(sums[0]), float(sums[1])


def _measured_slope(plane: Pixels) -> tuple[float, float]:
    """Slope of log power over log frequency, and its standard error.

    The log of an exponential variable has standard deviation π/√6.
    """
    from scipy.fft import rfft2

    power = np.abs(rfft2(plane.astype(np.float64), workers=threads())) ** 2
    fy, fx = np.fft.fftfreq(plane.shape[0]), np.fft.rfftfreq(plane.shape[1])
    frequency = np.hypot(fy[:, np.newaxis], fx[np.newaxis])
    # Frequencies that are their own mirror image in the half plane would count twice.
    used = power[:, 1 : (plane.shape[1] + 1) // 2]
    x = -np.log(frequency[:, 1 : (plane.shape[1] + 1) // 2])
    x = x - x.mean()
    spread = float((x * x).sum())
    slope = float((x * np.log(used + 1e-300)).sum()) / spread
    return slope, math.pi / math.sqrt(6) / math.sqrt(spread)
