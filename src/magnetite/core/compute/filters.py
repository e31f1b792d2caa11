"""Convolution with a kernel, whatever its size, at a declared boundary rule."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Complex128, Float64, Indices, Pixels
from magnetite.core.compute.compiling import worth_compiling
from magnetite.core.compute.threads import threads

#: Boundary conditions: the picture mirrored, its last samples repeated, the picture
#: again, or black.
Boundary = Annotated[Literal["mirror", "repeat", "wrap", "black"], "samples beyond the edge"]

#: Separable kernels up to this length are summed directly; longer ones go through the FFT.
LONGEST_DIRECT = 9
#: ... and up to this length in pictures that are worth a compiled loop.
LONGEST_COMPILED = 151
#: Other kernels are summed directly up to this number of weights that are not 0.
FEW_WEIGHTS = 9
_PADDING = {"mirror": "symmetric", "repeat": "edge", "wrap": "wrap", "black": "constant"}


def within(boundary: Boundary, reach: int) -> int | None:
    """How far from a sample a convolution looks, px; None where the edges are joined."""
    return None if boundary == "wrap" else reach


def convolve(plane: Pixels, kernel: Float64, boundary: Boundary = "mirror") -> Pixels:
    """Convolve a plane with a two-dimensional kernel of odd sides, through the FFT.

    Kernels that are the product of one symmetric line with itself go line by line.

    Parameters
    ----------
    plane : float array, shape (h, w)
    kernel : float64 array, shape (odd, odd)
    boundary : "mirror", "repeat", "wrap" or "black"

    Returns
    -------
    float array, shape (h, w), the dtype of `plane`; within 1e-6 of the direct sum (of full
    scale) in float32.
    """
    if kernel.size == 1:
        return plane * plane.dtype.type(kernel[0, 0])
    if (line := _separated(kernel)) is not None:
        return convolve_separable(plane, line, boundary)
    if np.count_nonzero(kernel) <= FEW_WEIGHTS:
        return _summed(plane, kernel, boundary)
    return _by_fft(plane, (kernel.shape[0] // 2, kernel.shape[1] // 2), boundary, kernel)


def _separated(kernel: Float64) -> Float64 | None:
    """The symmetric line whose product with itself is the kernel; None where there is none."""
    line = kernel[kernel.shape[0] // 2]
    if kernel.shape[0] != kernel.shape[1] or line[line.size // 2] <= 0:
        return None
    line = line / np.sqrt(line[line.size // 2])
    close = 1e-12 * float(np.abs(kernel).max())
    even = np.abs(line - line[::-1]).max() <= close
    return line if even and np.abs(np.outer(line, line) - kernel).max() <= close else None


def convolve_separable(plane: Pixels, line: Float64, boundary: Boundary = "mirror") -> Pixels:
    """Convolve rows and columns with one symmetric line of weights of odd length.

    Lines up to `LONGEST_COMPILED` are summed directly in large pictures, those up to
    `LONGEST_DIRECT` in small ones; longer ones go through the FFT, or in mirrored planes that are
    small against them through the DCT. Results agree to 1e-6.
    """
    if line.size == 1:
        return plane * plane.dtype.type(line[0])
    if line.size <= LONGEST_COMPILED and worth_compiling(plane.size):
        from magnetite.core.compute.separable import filtered

        reach = line.size // 2
        rows, columns = (beyond_edges(side, reach, boundary) for side in plane.shape)
        return filtered(plane, line, rows, columns)
    if line.size > LONGEST_DIRECT:
        short = line.size > min(plane.shape) or not worth_compiling(plane.size)
        if boundary == "mirror" and short:
            return _by_dct(plane, line)
        return _by_fft(plane, (line.size // 2,) * 2, boundary, line)
    return _summed(_summed(plane, line[:, np.newaxis], boundary), line[np.newaxis], boundary)


def beyond_edges(side: int, reach: int, boundary: Boundary) -> Indices:
    """The sample at each position from `-reach` on, shape (side + 2 reach,); -1 is black."""
    positions = np.arange(-reach, side + reach)
    inside = (positions >= 0) & (positions < side)
    if boundary == "black":
        return np.where(inside, positions, -1)
    if boundary == "wrap":
        return positions % side
    if boundary == "repeat":
        return positions.clip(0, side - 1)
    folded = positions % (2 * side)
    return np.where(folded < side, folded, 2 * side - 1 - folded)


def _summed(plane: Pixels, kernel: Float64, boundary: Boundary) -> Pixels:
    """Convolution weight by weight, in float64."""
    down, across = kernel.shape[0] // 2, kernel.shape[1] // 2
    padding = [(down, down), (across, across)]
    padded = np.pad(plane, padding, mode=_PADDING[boundary])  # type: ignore[call-overload]
    turned, (height, width) = kernel[::-1, ::-1], plane.shape
    total = np.zeros(plane.shape)
    for i, j in zip(*np.nonzero(turned), strict=True):
        total += turned[i, j] * padded[i : i + height, j : j + width]
    return total.astype(plane.dtype)


def _by_fft(plane: Pixels, reach: tuple[int, int], boundary: Boundary, kernel: Float64) -> Pixels:
    """Product of the transforms of the padded plane and of a kernel, a line meaning its square.

    In float64: rounding that depends on the size of the plane is lost in that to float32.
    """
    from scipy.fft import irfft2, next_fast_len, rfft2

    (down, across), (height, width) = reach, plane.shape
    padding = [(down, down), (across, across)]
    padded = np.pad(plane.astype(np.float64), padding, mode=_PADDING[boundary])  # type: ignore[call-overload]
    size = tuple(next_fast_len(n, real=True) for n in padded.shape)
    spectrum = rfft2(padded, s=size, workers=threads())
    for factor in _transfer(kernel, size):
        spectrum *= factor
    result = irfft2(spectrum, s=size, workers=threads(), overwrite_x=True)
    # The transform convolves with the kernel's first weight at the origin.
    return np.asarray(result[2 * down :, 2 * across :][:height, :width], plane.dtype, order="C")


def _by_dct(plane: Pixels, line: Float64) -> Pixels:
    """Product of the DCT-II of the mirrored plane and the transfer function of a symmetric line.

    Without padding, however long the line is (Martucci, IEEE Trans. Signal Processing 42(5), 1994,
    doi:10.1109/78.295213).
    """
    from scipy.fft import dctn, idctn, rfft

    spectrum = dctn(plane.astype(np.float64), workers=threads(), overwrite_x=True)
    positions = np.arange(line.size) - line.size // 2
    for axis, side in enumerate(plane.shape):
        folded = np.bincount(positions % (2 * side), line, 2 * side)
        spectrum *= np.expand_dims(rfft(folded).real[:side], 1 - axis)
    return np.asarray(idctn(spectrum, workers=threads(), overwrite_x=True), plane.dtype)


def _transfer(kernel: Float64, size: tuple[int, ...]) -> list[Complex128]:
    """Factors of the transfer function, each of a shape that broadcasts over the spectrum."""
    from scipy.fft import fft, rfft, rfft2

    if kernel.ndim == 2:
        return [rfft2(kernel, s=size, workers=threads())]
    return [fft(kernel, n=size[0])[:, np.newaxis], rfft(kernel, n=size[1])[np.newaxis]]
