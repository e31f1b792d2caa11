"""How good a restoration is, without a reference: estimates of its risk, and their limits.

Denoising: Stein's unbiased estimate of the mean squared error. Deblurring by a known kernel: the
weighted predictive risk, which ranks settings but does not estimate the error of the picture. For
other restorations no estimate is known, and none is given.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.chain.bind import bind_step
from magnetite.core.chain.step import Chain, Open, Step
from magnetite.core.compute.filters import convolve
from magnetite.core.errors import PictureError
from magnetite.core.gauges.noise_blocks import NoiseEstimate
from magnetite.core.gauges.noise_level import noise_wavelet, normal_sd
from magnetite.core.methods.context import Files
from magnetite.core.methods.declarations import Restoration
from magnetite.core.operations.restoration_chain import run
from magnetite.core.picture import Picture
from magnetite.core.quantities import significant
from magnetite.core.restore.deblurring import BLURS, blur_kernel
from magnetite.core.restore.kernels.noise_sd import estimate

#: Step of the divergence, in sd of the noise, and probes that it is averaged over.
_STEP, _PROBES = 0.1, 2
#: Samples that the divergence of a denoiser is averaged over, by several probes of small pictures.
_PROBED, _MOST_PROBES = 2**18, 8
#: Side of the blocks whose scatter gives the error of an estimate, px.
_BLOCK = 16
#: Share of the frequencies, those that the blur weakens most, at which noise alone is seen.
_BLIND = 0.08
#: Settings that describe a blur.
_BLUR = (*BLURS, "angle")


@dataclass(frozen=True)
class Risk:
    """An estimate for one restoration, in squared full scale: lower is better.

    `error` is its standard error; `psnr` says whether it is a mean squared error at all.
    """

    value: float
    error: float = math.nan
    psnr: bool = False

    @property
    def words(self) -> str:
        """The PSNR with its 95 % interval, or no figure where the estimate is none."""
        if not self.psnr:
            return ""
        largest, smallest = (self.value + sign * 1.96 * self.error for sign in (1, -1))
        if largest <= 0:
            return "no psnr: an error estimated below 0 means noise weaker than assumed"
        worst = -10 * math.log10(largest)
        if smallest <= 0:
            return f"estimated psnr at least {worst:.2f} dB"
        best = -10 * math.log10(smallest)
        return f"estimated psnr {worst:.2f} to {best:.2f} dB (95 %)"


#: Estimates the risk of a chain.
Estimate = Callable[[Chain], Risk]


def risk_of(
    picture: Picture, chain: Chain, sd: float | None, seed: int, files: Files | None
) -> tuple[Estimate, str]:
    """The estimate that holds for a chain of restorations, and a sentence on its limits.

    Parameters
    ----------
    picture : Picture
    chain : Chain
    sd : float or None
        Of the picture's white Gaussian noise, of full scale, where it is known.
    seed : int
        Of the probes.
    files : Files, optional
        Reads files that settings name.

    Raises
    ------
    PictureError
        If no estimate is known for a step, or the picture shows no noise.
    """
    kinds = [step.declared(Restoration).removes for step in chain.steps]
    for step, kind in zip(chain.steps, kinds, strict=True):
        if kind is None or kinds.count("blur") > 1:
            raise PictureError(
                f"without a reference no estimate of the error is known for {step.name}: name the "
                "clean picture with --reference, or write the setting"
            )
    if "blur" in kinds:
        return _deblurring(picture, chain.steps[kinds.index("blur")], sd, seed, files)
    return _denoising(picture, sd, seed, files)


def _denoising(
    picture: Picture, sd: float | None, seed: int, files: Files | None
) -> tuple[Estimate, str]:
    """Stein's estimate by finite differences along random signs.

    Ramani, Blu and Unser, IEEE Trans. Image Processing 17(9), 2008,
    doi:10.1109/TIP.2008.2001404. The estimate is that of the picture as stored: rounding to a bit
    depth is part of the restoration, and the difference spans at least one digital number. The
    standard error is that of the mean over blocks, and that of the noise where it is estimated:
    the risk changes by `2 div / n - 1` times its variance. Clipped samples may err by the noise
    itself.
    """
    pixels = picture.pixels()
    known = estimate(pixels, picture.frame.step) if sd is None else NoiseEstimate(sd, sd, sd)
    noise, spread = known.sd, (known.high**2 - known.low**2) / (2 * 1.96)
    _check_noise(noise)
    probes = _probes(pixels, seed, min(_MOST_PROBES, max(1, _PROBED // pixels.size)))
    step = pixels.dtype.type(max(_STEP * noise, picture.frame.step or 0.0))
    clipped = float(np.mean((pixels <= 0) | (pixels >= 1))) * noise**2

    def stored(candidate: Chain, values: Pixels) -> Pixels:
        restored = run(picture, candidate, values, files).pixels
        return picture.with_pixels(restored)[0].pixels().astype(np.float64)

    def measure(candidate: Chain) -> Risk:
        first = stored(candidate, pixels)
        terms = (first - pixels) ** 2 - noise**2
        changes = [probe * (stored(candidate, pixels + step * probe) - first) for probe in probes]
        slope = np.mean(changes, axis=0) / step
        terms += 2 * noise**2 * slope
        own = abs(2 * float(slope.mean()) - 1) * spread
        error = math.sqrt(_error_of_mean(terms) ** 2 + own**2 + clipped**2)
        return Risk(float(terms.mean()), error, psnr=known.distinct)

    unit, scale = picture.amplitude_unit, picture.full_scale
    limits = (
        f"by Stein's estimate for white Gaussian noise of sd {significant(noise * scale, 4)} {unit}"
    )
    if sd is None:
        limits += f", estimated: {known.words(scale, unit)}"
    return measure, limits


def _deblurring(
    picture: Picture, step: Step, sd: float | None, seed: int, files: Files | None
) -> tuple[Estimate, str]:
    """The weighted predictive risk: the error of the picture blurred again.

    `Σ w (R² - sd² + 2 sd² B D)` over cosine coefficients: R of the residual y - K u, B of random
    signs b, D of the change of K u along b. Stein's identity makes it unbiased for the error of
    K u; the weights w = 1 / (|H|² + sd² / S), S the spectrum c / f² of a picture of this
    variance, bring it near that of u (Eldar, IEEE Trans. Signal Processing 57(2), 2009,
    doi:10.1109/TSP.2008.2008212; Ramani et al., same Image Processing 21(8), 2012,
    doi:10.1109/TIP.2012.2195015).
    """
    from scipy.fft import dctn

    pixels = picture.pixels()
    planes = pixels if pixels.ndim == 3 else pixels[..., np.newaxis]
    kernel = _kernel(step, picture, files)
    power = _power(kernel, pixels.shape[:2])[..., np.newaxis]

    def coefficients(values: Pixels) -> Float64:
        whole = values.astype(np.float64).reshape(planes.shape)
        return np.asarray(dctn(whole, axes=(0, 1), norm="ortho"))

    def blurred(values: Pixels) -> Pixels:
        layers = values.reshape(planes.shape)
        made = [
            convolve(np.ascontiguousarray(layer), kernel) for layer in np.moveaxis(layers, 2, 0)
        ]
        return np.stack(made, axis=2)

    noise = sd if sd is not None else _blind_sd(coefficients(pixels), power, picture)
    _check_noise(noise)
    weights = 1 / (power + noise**2 / _spectrum(pixels, noise)[..., np.newaxis])
    probes = _probes(pixels, seed, _PROBES)

    def measure(candidate: Chain) -> Risk:
        first = _restored(picture, candidate, pixels, files)
        residual = coefficients(planes - blurred(first))
        terms = residual**2 - noise**2
        for probe in probes:
            perturbed = pixels + pixels.dtype.type(_STEP * noise) * probe
            change = blurred(_restored(picture, candidate, perturbed, files) - first)
            product = coefficients(probe) * coefficients(change)
            terms += 2 * noise * product / (_STEP * len(probes))
        return Risk(float((weights * terms).mean()))

    size = f"{significant(noise * picture.full_scale, 4)} {picture.amplitude_unit}"
    return measure, (
        f"by the weighted predictive risk of {step.name} for white Gaussian noise of sd {size}; "
        "it ranks settings and does not estimate a psnr"
    )


def _kernel(step: Step, picture: Picture, files: Files | None) -> Float64:
    """The kernel of the blur that a step undoes; `PictureError` where that is to be tuned."""
    settings = tuple(setting for setting in step.settings if setting[0] in _BLUR)
    if any(isinstance(value, Open) for _, value in settings):
        raise PictureError(
            f"without a reference the blur of {step.name} cannot be tuned: write it, as calibrate "
            "blur measures it, or name the clean picture with --reference"
        )
    arguments: dict[str, Any] = dict(
        bind_step(replace(step, settings=settings), picture.frame, files).arguments
    )
    described: dict[str, Any] = {k: arguments.get(k, 0.0 if k == "angle" else None) for k in _BLUR}
    return blur_kernel(**described)


def _restored(picture: Picture, chain: Chain, pixels: Pixels, files: Files | None) -> Float64:
    return run(picture, chain, pixels, files).pixels.astype(np.float64)


def _check_noise(sd: float) -> None:
    if sd == 0:
        raise PictureError("the picture shows no noise: its risk cannot be estimated")


def _probes(pixels: Pixels, seed: int, number: int) -> list[Pixels]:
    rng = np.random.default_rng(seed)
    return [rng.choice([-1, 1], pixels.shape).astype(pixels.dtype) for _ in range(number)]


def _error_of_mean(terms: Float64) -> float:
    """Standard error of the mean of terms that depend on their neighbours, by blocks."""
    rows, columns = (max(1, n // _BLOCK) for n in terms.shape[:2])
    bands = np.array_split(terms, rows, axis=0)
    blocks = [part.mean() for band in bands for part in np.array_split(band, columns, axis=1)]
    if len(blocks) < 2:
        return math.inf
    return float(np.std(blocks, ddof=1)) / math.sqrt(len(blocks))


def _power(kernel: Float64, shape: tuple[int, ...]) -> Float64:
    """|H|² at the frequencies of the cosine transform, the mean of both directions of a slant."""
    from scipy.fft import fft2

    rows, columns = shape
    field = np.zeros((2 * rows, 2 * columns))
    height, width = (min(n, m) for n, m in zip(kernel.shape, field.shape, strict=True))
    field[:height, :width] = kernel[:height, :width]
    power = np.abs(fft2(field)) ** 2
    mirrored = power[-np.arange(rows) % (2 * rows)]
    return np.asarray((power[:rows] + mirrored)[:, :columns] / 2)


def _blind_sd(coefficients: Float64, power: Float64, picture: Picture) -> float:
    """Sd of the noise at the frequencies that the blur suppresses, where no signal is left.

    Residual texture makes this, the estimate by wavelets and the upper end of that by blocks too
    large: the smallest of them is used.
    """
    least = (power <= np.quantile(power, _BLIND))[..., 0]
    pixels, step = picture.pixels(), picture.frame.step
    return min(
        normal_sd(coefficients[least], 0.0),
        noise_wavelet(pixels, step=step) or math.inf,
        estimate(pixels, step).high,
    )


def _spectrum(pixels: Pixels, noise: float) -> Float64:
    """Power c / f² of each cosine coefficient of a picture of this variance; endless at 0."""
    down, across = (np.arange(n) / (2 * n) for n in pixels.shape[:2])
    squares = down[:, np.newaxis] ** 2 + across**2
    squares[0, 0] = np.inf
    variance = max(float(pixels.var(dtype=np.float64)) - noise**2, 1e-9)
    power: Any = variance * squares.size / squares / (1 / squares).sum()
    power[0, 0] = 1e9
    return np.asarray(power)
