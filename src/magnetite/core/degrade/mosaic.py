"""Colour filter mosaics, and their interpolation to three colours."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Bools, Pixels
from magnetite.core.compute.bands import bands
from magnetite.core.compute.threads import spread
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Choice
from magnetite.core.picture.mosaics import PATTERNS, Pattern, check_even, colours_of

#: Rows around a band that the interpolation looks at; even, so that the pattern stays in phase.
_REACH = 8
#: Rows of a band that is worked on at a time.
_ROWS = 128
#: Pattern of a gray picture that is said to be a mosaic.
StatedPattern = Annotated[Pattern | None, Choice(tuple(PATTERNS)), "colours of a mosaic"]
Method = Literal["bilinear", "gradient", "directional"]


@degradation(
    "mosaic",
    summary="Keep one colour of each sample, as a sensor behind a mosaic of colour filters.",
    colour=ColourPolicy.RGB,
    source="Bayer, US patent 3,971,065 (1976)",
    gives="gray",
    reach=0,
)
def mosaic(pixels: Pixels, *, pattern: Pattern = "rggb") -> Pixels:
    """Red, green or blue of each sample, by its position in squares of 2x2.

    Returns samples of shape (h, w). Raises `PictureError` where the picture is not RGB, or its
    sides are not even.
    """
    check_even("mosaic", pixels)
    out = np.empty(pixels.shape[:2], pixels.dtype)
    for (down, across), colour in colours_of(PATTERNS[pattern]):
        out[down::2, across::2] = pixels[down::2, across::2, colour]
    return out


@degradation(
    "demosaic",
    summary="Interpolate a mosaic to three colours for each sample.",
    colour=ColourPolicy.JOINT,
    source="Malvar, He and Cutler, ICASSP 2004, doi:10.1109/ICASSP.2004.1326587; Hamilton and "
    "Adams, US patent 5,629,734 (1997); Menon, Andriani and Calvagno, IEEE Trans. Image "
    "Processing 16(1), 2007, doi:10.1109/TIP.2006.884928",
    gives="rgb",
    reach=_REACH,
    memory=80,
)
def demosaic(
    pixels: Pixels,
    *,
    method: Annotated[Method, "interpolation of the missing colours"] = "directional",
    pattern: Pattern = "rggb",
) -> Pixels:
    """Each sample's two other colours, from the samples around it.

    bilinear: the mean of the nearest samples of the colour. gradient: with the 5x5 filters of
    Malvar, He and Cutler, which add the Laplacian of the sample's own colour. directional: green
    along rows and along columns as Hamilton and Adams, of which that with the smaller change of
    colour differences in 5x5 samples is taken as Menon and others do; then red and blue by their
    differences from green. Returns samples of shape (h, w, 3), which may leave 0..1. Raises
    `PictureError` for several channels, or sides that are not even.
    """
    if pixels.ndim != 2:
        raise PictureError(f"demosaic takes a mosaic, one plane; this has {pixels.shape[2]}")
    check_even("demosaic", pixels)
    interpolate = {"bilinear": _bilinear, "gradient": _gradient, "directional": _directional}
    height, width = pixels.shape
    padded = np.pad(pixels, _REACH, mode="reflect" if min(pixels.shape) > _REACH else "symmetric")
    out = np.empty((height, width, 3), pixels.dtype)

    def work(part: slice) -> None:
        around = padded[part.start : part.stop + 2 * _REACH]
        planes = interpolate[method](around, pattern)
        inside = slice(_REACH, -_REACH)
        for colour, plane in enumerate(planes):
            out[part, :, colour] = plane[inside, inside]

    list(spread(work, bands(height, _ROWS)))
    return out


def _where(pattern: str, colour: int, shape: tuple[int, ...]) -> Bools:
    found = np.zeros(shape, bool)
    for (down, across), number in colours_of(PATTERNS[pattern]):
        if number == colour:
            found[down::2, across::2] = True
    return found


def _bilinear(plane: Pixels, pattern: str) -> list[Pixels]:
    planes = []
    for colour in range(3):
        own = np.where(_where(pattern, colour, plane.shape), plane, 0)
        planes.append(_tent(own) if colour != 1 else _cross(own) / 4 + own)
    return planes


def _tent(sparse: Pixels) -> Pixels:
    """Bilinear interpolation of one sample in each 2x2."""
    rows = sparse.copy()
    rows[1:-1] += (sparse[:-2] + sparse[2:]) / 2
    both = rows.copy()
    both[:, 1:-1] += (rows[:, :-2] + rows[:, 2:]) / 2
    return both


def _cross(plane: Pixels) -> Pixels:
    """The sum of the four neighbours."""
    total = np.zeros_like(plane)
    total[1:-1] += plane[:-2] + plane[2:]
    total[:, 1:-1] += plane[:, :-2] + plane[:, 2:]
    return total


def _shifted(plane: Pixels, down: int, across: int) -> Pixels:
    """Samples at a displacement; the border, which is cut off, wraps."""
    return np.roll(plane, (-down, -across), axis=(0, 1))


def _gradient(plane: Pixels, pattern: str) -> list[Pixels]:
    """The filters of Malvar, He and Cutler (2004), figure 2, over 8."""
    near_rows = _shifted(plane, -1, 0) + _shifted(plane, 1, 0)
    near_columns = _shifted(plane, 0, -1) + _shifted(plane, 0, 1)
    far_rows = _shifted(plane, -2, 0) + _shifted(plane, 2, 0)
    far_columns = _shifted(plane, 0, -2) + _shifted(plane, 0, 2)
    corners = _shifted(near_rows, 0, -1) + _shifted(near_rows, 0, 1)
    green = (4 * plane + 2 * (near_rows + near_columns) - far_rows - far_columns) / 8
    along = 5 * plane - corners
    by_columns = (along + 4 * near_columns - far_columns + far_rows / 2) / 8
    by_rows = (along + 4 * near_rows - far_rows + far_columns / 2) / 8
    across = (6 * plane + 2 * corners - 1.5 * (far_rows + far_columns)) / 8
    planes = [plane.copy() for _ in range(3)]
    for (down, right), colour in colours_of(PATTERNS[pattern]):
        at = np.s_[down::2, right::2]
        if colour == 1:
            in_row = PATTERNS[pattern][down][1 - right]
            planes[in_row][at] = by_columns[at]
            planes[2 - in_row][at] = by_rows[at]
        else:
            planes[1][at] = green[at]
            planes[2 - colour][at] = across[at]
    return planes


def _directional(plane: Pixels, pattern: str) -> list[Pixels]:
    green = _where(pattern, 1, plane.shape)
    along, down = _green_along(plane, 1), _green_along(plane, 0)
    costs = []
    for axis, estimate in ((1, along), (0, down)):
        difference = np.where(green, 0, plane - estimate)
        step = np.abs(difference - np.roll(difference, -2, axis=axis))
        costs.append(_box(step))
    filled = np.where(green, plane, np.where(costs[1] < costs[0], down, along))
    planes = [filled, filled, filled]
    for colour in (0, 2):
        own = _where(pattern, colour, plane.shape)
        difference = _tent(np.where(own, plane - filled, 0))
        planes[colour] = np.where(own, plane, filled + difference)
    return planes


def _green_along(plane: Pixels, axis: int) -> Pixels:
    """Green between two green samples, corrected by the curvature of the sample's own colour."""
    near = np.roll(plane, 1, axis) + np.roll(plane, -1, axis)
    far = np.roll(plane, 2, axis) + np.roll(plane, -2, axis)
    return near / 2 + (2 * plane - far) / 4


def _box(plane: Pixels) -> Pixels:
    """Sums over 5x5 samples; wrong within two samples of the border, which is cut off."""
    for axis in (0, 1):
        plane = sum(np.roll(plane, shift, axis) for shift in (-2, -1, 1, 2)) + plane
    return plane
