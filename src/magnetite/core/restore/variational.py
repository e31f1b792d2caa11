"""Restorations that minimise a sum of misfit and roughness."""

from __future__ import annotations

import math
from functools import partial
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, restoration
from magnetite.core.methods.parameters import Count, Number
from magnetite.core.restore.kernels.noise_sd import NoiseSd


@restoration(
    "total-variation",
    summary="The picture of least total variation that is near enough.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source="Rudin, Osher and Fatemi, Physica D 60, 1992, doi:10.1016/0167-2789(92)90242-F; "
    "Chambolle, J. Mathematical Imaging and Vision 20, 2004, "
    "doi:10.1023/B:JMIV.0000011325.36760.1e; Chambolle and Pock, same 40, 2011, "
    "doi:10.1007/s10851-010-0251-1",
    one_of=("strength", "sd", "robust"),
)
def total_variation(
    pixels: Pixels,
    *,
    strength: Annotated[
        float | None, Amplitude(high=10), "weight of the variation; 0 changes nothing"
    ] = None,
    sd: NoiseSd = None,
    robust: Annotated[
        float | None,
        Number(0, 100),
        "weight of the variation against magnitudes, not squares; 0 changes nothing",
    ] = None,
    iterations: Annotated[int, Count(1, 5000), "number of iterations"] = 100,
) -> Pixels:
    """Minimise `½ Σ (u - x)² + strength Σ |∇u|` or `Σ |u - x| + robust Σ |∇u|`.

    By a primal-dual method, accelerated for squares. They are for Gaussian noise, magnitudes
    for impulses and structure to be removed whole. With sd the strength is found for which the
    rms of u - x is sd: the picture loses no more than the noise.
    """
    if 0 in (strength, sd, robust):
        return pixels.copy()
    if robust is not None:
        return primal_dual(pixels, robust, iterations, squares=False)
    weight = strength if strength is not None else 0.5 * (sd or 0)
    return primal_dual(pixels, weight, iterations, sd=sd)


#: A weight beyond which everything but the mean is gone: flat pictures never come as far as sd.
_LARGEST_WEIGHT = 1e6


def primal_dual(
    pixels: Pixels, weight: float, iterations: int, *, squares: bool = True, sd: float | None = None
) -> Pixels:
    """The minimiser, shape and dtype of the pixels; with sd the weight gives that rms misfit."""
    from magnetite.core.restore.kernels.variation import ascend, descend, in_bands

    pixels = np.ascontiguousarray(pixels)
    result, ahead = pixels.copy(), pixels.copy()
    down, across = np.zeros_like(pixels), np.zeros_like(pixels)
    tau = sigma = 1 / math.sqrt(8)  # tau sigma times the squared norm of the gradient, 8, is 1
    for _ in range(iterations):
        step, momentum = tau, 1 / math.sqrt(1 + 2 * tau) if squares else 1.0
        in_bands(pixels, partial(ascend, ahead, down, across, sigma, weight))
        work = partial(descend, pixels, down, across, result, ahead, step, momentum, squares)
        misfit = in_bands(pixels, work)
        if squares:
            tau, sigma = tau * momentum, sigma / momentum
        if sd is not None:
            rms = math.sqrt(misfit / pixels.size)
            weight = min(weight * (sd / max(rms, 1e-3 * sd)) ** 0.3, _LARGEST_WEIGHT)
    return result
