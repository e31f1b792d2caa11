"""Fewer or more samples, and samples at other positions."""

from __future__ import annotations

import math
from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Angle, Length, Number

Factor = Annotated[float, Number(1, 64)]
#: Half of the support of each kernel, in samples of the coarser grid.
_REACH = {"box": 0.5, "linear": 1.0, "cubic": 2.0, "lanczos": 3.0}
_SOURCE = (
    "Keys, IEEE Trans. Acoustics, Speech, Signal Processing 29(6), 1981, "
    "doi:10.1109/TASSP.1981.1163711; Duchon, J. Applied Meteorology 18(8), 1979"
)


def _certify_size(change: Change, *, factor: float, kernel: str) -> list[Finding]:
    (before, after) = change.before.shape, change.drawn.shape
    means = [float(samples.mean(dtype=np.float64)) for samples in (change.before, change.drawn)]
    return [
        Finding("width", "px", None, after[1]),
        Finding("height", "px", None, after[0]),
        Finding("width factor", "", None, max(after[1] / before[1], before[1] / after[1])),
        Finding("mean", "fs", means[0], means[1]),
    ]


@degradation(
    "downsample",
    summary="Keep fewer samples: the picture shrinks by a factor.",
    colour=ColourPolicy.EACH,
    source=_SOURCE,
    certify=_certify_size,
)
def downsample(
    pixels: Pixels,
    *,
    factor: Annotated[Factor, "old side over new"],
    kernel: Annotated[
        Literal["box", "linear", "cubic", "lanczos", "none"],
        "mean of the area, tent, Keys's cubic (a = -1/2), windowed sinc of 3 lobes, or no filter",
    ] = "box",
) -> Pixels:
    """Weighted means of the samples about each new one, the kernel widened by the factor.

    Each side becomes `round(side / factor)`, 1 or more; the corners of the picture stay where they
    are. `none` takes the nearest sample and so shows aliasing. Returns samples of shape (round(h /
    factor), round(w / factor)).
    """
    size = (_shrunk(pixels.shape[0], factor), _shrunk(pixels.shape[1], factor))
    return _resampled(pixels, size, "nearest" if kernel == "none" else kernel)


@degradation(
    "upsample",
    summary="Make more samples by interpolation: the picture grows by a factor.",
    colour=ColourPolicy.EACH,
    source=_SOURCE,
    certify=_certify_size,
    memory=lambda *, factor, **_: 16 + 16 * factor**2,
)
def upsample(
    pixels: Pixels,
    *,
    factor: Annotated[Factor, "new side over old"],
    kernel: Annotated[
        Literal["nearest", "linear", "cubic", "lanczos"],
        "nearest sample, tent, Keys's cubic (a = -1/2), or windowed sinc of three lobes",
    ] = "cubic",
) -> Pixels:
    """Interpolate: each side becomes `round(side factor)`; the picture's corners stay in place.

    Returns samples of shape (round(h factor), round(w factor)). Raises `PictureError` where these
    are more than 2^28.
    """
    size = (round(pixels.shape[0] * factor), round(pixels.shape[1] * factor))
    if math.prod(size) > 2**28:
        raise PictureError(f"{size[1]}x{size[0]} samples are more than {2**28}: upsample less")
    return _resampled(pixels, size, kernel)


@degradation(
    "shift",
    summary="Move the picture by whole and parts of a px.",
    colour=ColourPolicy.EACH,
    source="windowed sinc: Duchon, J. Applied Meteorology 18(8), 1979",
)
def shift(
    pixels: Pixels,
    *,
    right: Annotated[float, Length(-1000, 1000), "shift to the right, or left if negative"] = 0.0,
    down: Annotated[float, Length(-1000, 1000), "shift down, or up if negative"] = 0.0,
) -> Pixels:
    """Each sample is that at (row - down, column - right), mirrored at the edges.

    Whole px move samples as they are; parts of a px interpolate by a windowed sinc of three lobes.
    Metrics that compare sample by sample take a shift for damage: that is one of their blind
    spots, and shown by this step. Samples may leave 0..1 near edges.
    """
    rows, columns = (
        _weights(side, np.arange(side) - by, "nearest" if by == round(by) else "lanczos")
        for side, by in zip(pixels.shape, (down, right), strict=True)
    )
    half: Float64 = rows @ pixels
    return np.ascontiguousarray((columns @ half.T).T, dtype=pixels.dtype)


@degradation(
    "rotate",
    summary="Turn the picture about its middle.",
    colour=ColourPolicy.EACH,
    source="cubic splines: Unser, Aldroubi and Eden, IEEE Trans. Signal Processing 41(2), 1993, "
    "doi:10.1109/78.193220",
    memory=60,
)
def rotate(
    pixels: Pixels, *, angle: Annotated[float, Angle(), "angle, counter-clockwise"]
) -> Pixels:
    """Interpolate by cubic splines, mirrored at the edges; the size stays.

    Samples may leave 0..1 near edges.
    """
    from scipy.ndimage import rotate as turned

    return np.asarray(turned(pixels, angle, reshape=False, order=3, mode="mirror"), pixels.dtype)


def _shrunk(side: int, factor: float) -> int:
    return max(1, round(side / factor))


def _resampled(plane: Pixels, size: tuple[int, int], kernel: str) -> Pixels:
    """Rows, then columns, each through a sparse matrix of weights."""
    rows, columns = (
        _weights(old, (np.arange(new) + 0.5) * (old / new) - 0.5, kernel, old / new)
        for old, new in zip(plane.shape, size, strict=True)
    )
    half: Float64 = rows @ plane
    return np.ascontiguousarray((columns @ half.T).T, dtype=plane.dtype)


def _weights(old: int, centres: Float64, kernel: str, ratio: float = 1.0) -> Float64:
    """Sparse matrix (new, old): row i holds the weights of a new sample, of sum 1.

    `centres` are the positions of the new samples among the old; beyond the edges the picture is
    mirrored. The kernel is widened by a `ratio` above 1.
    """
    from scipy.sparse import csr_array

    new = centres.size
    if kernel == "nearest":
        positions = np.floor(centres + 0.5).astype(int)[:, np.newaxis]
        values = np.ones(positions.shape)
    else:
        widened = max(1.0, ratio)
        reach = _REACH[kernel] * widened
        first = np.floor(centres - reach).astype(int)
        positions = first[:, np.newaxis] + np.arange(math.ceil(2 * reach) + 2)
        values = _KERNELS[kernel]((positions - centres[:, np.newaxis]) / widened, widened)
        values /= values.sum(axis=1, keepdims=True)
    positions %= 2 * old
    positions = np.where(positions >= old, 2 * old - 1 - positions, positions)
    starts = np.arange(new + 1) * positions.shape[1]
    matrix: Float64 = csr_array((values.ravel(), positions.ravel(), starts), shape=(new, old))
    return matrix


def _box(x: Float64, widened: float) -> Float64:
    """Share of each old sample, 1 / widened long, that lies within the box."""
    half = 0.5 / widened
    return (np.minimum(x + half, 0.5) - np.maximum(x - half, -0.5)).clip(0, None)


def _linear(x: Float64, _widened: float) -> Float64:
    return (1 - np.abs(x)).clip(0, None)


def _cubic(x: Float64, _widened: float) -> Float64:
    x = np.abs(x)
    inner = 1.5 * x**3 - 2.5 * x**2 + 1
    outer = -0.5 * x**3 + 2.5 * x**2 - 4 * x + 2
    return np.where(x < 1, inner, np.where(x < 2, outer, 0))


def _lanczos(x: Float64, _widened: float) -> Float64:
    return np.where(np.abs(x) < 3, np.sinc(x) * np.sinc(x / 3), 0)


_KERNELS = {"box": _box, "linear": _linear, "cubic": _cubic, "lanczos": _lanczos}
