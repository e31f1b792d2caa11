"""Restorations that undo a known blur."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Annotated, Any

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.compute import psf
from magnetite.core.compute.filters import convolve
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, restoration
from magnetite.core.methods.parameters import Angle, Count, FileName, Length, Number
from magnetite.core.restore.kernels.noise_sd import NoiseSd, estimated

#: Settings of which one describes the blur.
BLURS = ("sigma", "size", "radius", "length", "kernel")
BlurSigma = Annotated[float | None, Length(0, 200), "standard deviation of a `gaussian-blur`"]
BlurSize = Annotated[float | None, Length(1, 500), "side of a `box-blur`"]
BlurRadius = Annotated[float | None, Length(0, 250), "radius of a `defocus`"]
BlurLength = Annotated[float | None, Length(0, 500), "length of a `motion-blur`"]
BlurAngle = Annotated[float, Angle(), "direction of a `motion-blur`"]
BlurKernel = Annotated[Any, FileName("kernel.npy"), "weights of a `psf-blur`"]


def blur_kernel(
    sigma: float | None, size: float | None, radius: float | None, length: float | None,
    angle: float, kernel: Samples | None,
) -> Float64:  # fmt: skip
    """The kernel of the one blur that is given, shape (h, w), both odd."""
    if sigma is not None:
        return psf.gaussian(sigma)
    if size is not None:
        return psf.box(size)
    if radius is not None:
        return psf.disk(radius)
    if length is not None:
        return psf.motion(length, angle)
    assert kernel is not None, "one of the blurs is given"
    return psf.measured(kernel)


@restoration(
    "wiener-deblur",
    summary="Undo a known blur in the frequency domain, as far as noise allows.",
    removes="blur",
    colour=ColourPolicy.EACH,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 5.8",
    one_of=BLURS,
    memory=110,
)
def wiener_deblur(
    pixels: Pixels,
    *,
    sigma: BlurSigma = None,
    size: BlurSize = None,
    radius: BlurRadius = None,
    length: BlurLength = None,
    angle: BlurAngle = 0.0,
    kernel: BlurKernel = None,
    sd: NoiseSd = None,
    strength: Annotated[
        float, Number(0, 1000), "factor of the noise's power: larger values smooth more"
    ] = 1.0,
) -> Pixels:
    """`X = H* / (|H|² + strength sd² / S) Y`, S falling with the square of the frequency.

    S = c / f², c such that S adds up to the picture's own variance. The picture is continued
    mirrored and led smoothly into itself, so that its edges do not ring. Samples may leave 0..1.
    """
    weights = blur_kernel(sigma, size, radius, length, angle, kernel)
    if weights.size == 1:
        return pixels.copy()
    frame = _Frame.around(pixels, weights)
    noise, variance = estimated(pixels, sd), float(pixels.var(dtype=np.float64))
    if variance == 0:
        return pixels.copy()
    transfer, frequency = frame.transfer(weights), frame.square_frequency()
    inverse = np.divide(1, frequency, out=np.zeros_like(frequency), where=frequency > 0)
    # Power of a coefficient of the unnormalised transform is the sum of samples squared.
    level = variance * frame.samples / _full_sum(inverse, frame.width)
    ratio = max(noise, 1e-5) ** 2 * strength * frequency / level
    spectrum = frame.forward(frame.tapered(weights))
    restored = np.conj(transfer) / (np.abs(transfer) ** 2 + ratio) * spectrum
    return frame.inner(frame.backward(restored)).astype(pixels.dtype)


@restoration(
    "richardson-lucy",
    summary="Undo a known blur by the likelihood of photon counts, smoothed by total variation.",
    removes="blur",
    colour=ColourPolicy.EACH,
    source="Richardson, J. Opt. Soc. Am. 62(1), 1972, doi:10.1364/JOSA.62.000055; Lucy, "
    "Astronomical J. 79(6), 1974, doi:10.1086/111605; Dey et al., Microscopy Research and "
    "Technique 69(4), 2006, doi:10.1002/jemt.20294",
    one_of=BLURS,
    memory=120,
)
def richardson_lucy(
    pixels: Pixels,
    *,
    sigma: BlurSigma = None,
    size: BlurSize = None,
    radius: BlurRadius = None,
    length: BlurLength = None,
    angle: BlurAngle = 0.0,
    kernel: BlurKernel = None,
    iterations: Annotated[int, Count(0, 2000), "number of iterations; 0 changes nothing"] = 30,
    smoothness: Annotated[
        float, Number(0, 0.2), "weight of the total variation; 0 for the plain method"
    ] = 0.002,
) -> Pixels:
    """`u ← u / (1 - smoothness div(∇u / |∇u|)) · Kᵀ(x / K u)`, again and again from x.

    K blurs, mirrored at the edges. Samples below 0 count as 0. Each iteration sharpens further,
    and brings out more noise. Samples may exceed 1; float32 results are within 1e-6 of those in
    float64.
    """
    weights = blur_kernel(sigma, size, radius, length, angle, kernel)
    if weights.size == 1 or iterations == 0:
        return pixels.copy()
    from magnetite.core.restore.kernels.variation import directions, in_bands, smoothed_update

    turned = np.ascontiguousarray(weights[::-1, ::-1])
    least = 1e-4
    data = np.maximum(pixels, 0) + pixels.dtype.type(least)
    result, down, across = data.copy(), np.zeros_like(data), np.zeros_like(data)
    for _ in range(iterations):
        ratio = data / np.maximum(convolve(result, weights), pixels.dtype.type(least))
        correction = convolve(ratio, turned)
        if smoothness:
            # Softened where slopes are small: steeper, and the smallest ripple would grow.
            in_bands(data, partial(directions, result, down, across, 10 * smoothness))
        update = partial(smoothed_update, result, correction, down, across, smoothness, least)
        in_bands(data, update)
    return np.asarray(result - data.dtype.type(least))


@restoration(
    "tv-deblur",
    summary="Undo a known blur by the picture of least total variation that fits.",
    removes="blur",
    colour=ColourPolicy.EACH,
    source="Wang, Yang, Yin and Zhang, SIAM J. Imaging Sciences 1(3), 2008, doi:10.1137/080724265",
    one_of=BLURS,
    memory=220,
)
def tv_deblur(
    pixels: Pixels,
    *,
    sigma: BlurSigma = None,
    size: BlurSize = None,
    radius: BlurRadius = None,
    length: BlurLength = None,
    angle: BlurAngle = 0.0,
    kernel: BlurKernel = None,
    strength: Annotated[float, Amplitude(), "weight of the variation"] = 1e-4,
    iterations: Annotated[int, Count(1, 1000), "number of iterations"] = 50,
) -> Pixels:
    """Minimise `½ Σ (K u - x)² + strength Σ |∇u|` by splitting off the gradient.

    The picture is continued mirrored and led smoothly into itself, so that its edges do not ring.
    Samples may leave 0..1.
    """
    weights = blur_kernel(sigma, size, radius, length, angle, kernel)
    if weights.size == 1:
        return pixels.copy()
    from magnetite.core.restore.kernels.splitting import divergence, shrink_slopes
    from magnetite.core.restore.kernels.variation import in_bands

    frame = _Frame.around(pixels, weights)
    transfer = frame.transfer(weights)
    data = np.conj(transfer) * frame.forward(frame.tapered(weights))
    penalty = 50 * strength
    down, across = frame.differences()
    power = np.abs(transfer) ** 2 + penalty * (np.abs(down) ** 2 + np.abs(across) ** 2)
    fixed, pull = data / power, penalty / power
    plane = frame.tapered(weights)
    lag, wanted = np.zeros((2, 2, frame.height, frame.width))
    ends = np.empty_like(plane)
    for number in range(iterations):
        if number:
            in_bands(plane, partial(shrink_slopes, plane, lag, wanted, strength / penalty))
        in_bands(plane, partial(divergence, wanted, ends))
        spectrum = frame.forward(ends)
        spectrum *= pull
        spectrum += fixed
        plane = frame.backward(spectrum)
    return frame.inner(plane).astype(pixels.dtype)


@dataclass(frozen=True)
class _Frame:
    """A plane with a mirrored margin, on a grid that closes in itself."""

    padded: Samples
    top: int
    left: int
    rows: int
    columns: int

    @classmethod
    def around(cls, pixels: Pixels, weights: Samples) -> _Frame:
        """A margin of twice the kernel's reach at least, to sides that transform fast."""
        from scipy.fft import next_fast_len

        sides = [next_fast_len(n + 2 * k, real=True) for n, k in
                 zip(pixels.shape, weights.shape, strict=True)]  # fmt: skip
        before = [(side - n) // 2 for side, n in zip(sides, pixels.shape, strict=True)]
        margins = [
            (b, side - n - b) for b, side, n in zip(before, sides, pixels.shape, strict=True)
        ]
        padded = np.pad(pixels.astype(np.float64), margins, mode="symmetric")
        return cls(padded, before[0], before[1], *pixels.shape)

    @property
    def height(self) -> int:
        return int(self.padded.shape[0])

    @property
    def width(self) -> int:
        return int(self.padded.shape[1])

    @property
    def samples(self) -> int:
        return self.height * self.width

    def tapered(self, weights: Samples) -> Samples:
        """The margin faded into a blurred copy of itself, whose opposite edges fit together."""
        closed = self.padded
        for _ in range(3):
            closed = self.backward(self.forward(closed) * self.transfer(weights))
        fade = np.outer(
            _fade(self.height, self.top, self.rows), _fade(self.width, self.left, self.columns)
        )
        return np.asarray(fade * self.padded + (1 - fade) * closed)

    def inner(self, plane: Samples) -> Samples:
        """The plane without its margin."""
        rows = slice(self.top, self.top + self.rows)
        return plane[rows, self.left : self.left + self.columns]

    def transfer(self, weights: Samples) -> Samples:
        """Transform of a kernel with its middle at the origin."""
        kernel = np.zeros_like(self.padded)
        kernel[: weights.shape[0], : weights.shape[1]] = weights
        shift = [-(n // 2) for n in weights.shape]
        return self.forward(np.roll(kernel, shift, (0, 1)))

    def differences(self) -> tuple[Samples, Samples]:
        """Transforms of the differences to the next sample down and across."""
        down = np.exp(2j * np.pi * np.fft.fftfreq(self.height)) - 1
        across = np.exp(2j * np.pi * np.fft.rfftfreq(self.width)) - 1
        return down[:, np.newaxis], across[np.newaxis]

    def square_frequency(self) -> Samples:
        """Squares of all frequencies, (cycles/px)²."""
        down, across = np.fft.fftfreq(self.height), np.fft.rfftfreq(self.width)
        return down[:, np.newaxis] ** 2 + across[np.newaxis] ** 2

    def forward(self, plane: Samples) -> Samples:
        from scipy.fft import rfft2

        from magnetite.core.compute.threads import threads

        return np.asarray(rfft2(plane, workers=threads()))

    def backward(self, spectrum: Samples) -> Samples:
        from scipy.fft import irfft2

        from magnetite.core.compute.threads import threads

        return np.asarray(irfft2(spectrum, s=(self.height, self.width), workers=threads()))


def _fade(side: int, start: int, inner: int) -> Samples:
    """1 inside, falling to 0 at the border by half a cosine."""
    position = np.arange(side)
    outside = np.maximum(start - position, position - (start + inner - 1)).clip(0, None)
    most = max(1, start, side - start - inner)
    return np.asarray(0.5 + 0.5 * np.cos(np.pi * (outside / most).clip(0, 1)))


def _full_sum(half: Samples, width: int) -> float:
    """Sum over all frequencies, from the non-negative ones along rows."""
    twice = half[:, 1 : (width + 1) // 2].sum()
    return float(half.sum() + twice)
