"""Where a picture fails: metrics before they are averaged."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.errors import PictureError, check_choice
from magnetite.core.metrics._ssim_terms import similarity, term_map
from magnetite.core.metrics.colour import delta_e_map
from magnetite.core.metrics.gradient import gmsd_map
from magnetite.core.metrics.kernels.moments import check_window, window_moments
from magnetite.core.picture import Picture, luma
from magnetite.core.picture.matching import COMMON_SCALE, check_comparable


@dataclass(frozen=True)
class Map:
    """One map: its values, shape (rows, columns), with name and unit."""

    name: str
    unit: str
    values: Float64
    #: Whether small values are good.
    lower_is_better: bool

    def picture(self) -> Picture:
        """The values as a float picture, as it is written to a file."""
        return Picture(self.values.astype(np.float32), None, "gray")


def error_maps(
    reference: Picture, test: Picture, names: Collection[str] = ("error", "ssim", "gmsd", "delta-e")
) -> list[Map]:
    """The maps that apply to a pair of pictures, all or those named.

    `error` is the mean over the channels of the absolute error, in dn of 8 bits; `ssim` that of
    every window that fits (11x11: 5 px are missing along each edge); `gmsd` the similarity of
    luma's gradients, at half size; `delta-e` CIEDE2000, of RGB pictures only.

    Raises
    ------
    PictureError
        If size, colour or bit depth differ.
    InputError
        If a name is none of the four.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> reference, test = (magnetite.convert(r, "gray") for r in (ramp, ramp + np.uint8(2)))
    >>> (error,) = magnetite.error_maps(reference, test, ["error"])
    >>> float(error.values.min()), float(error.values.max())
    (2.0, 2.0)
    """
    for name in names:
        check_choice("map", name, [known for known, *_ in _MAPS])
    check_comparable(reference, test)
    x, y = reference.on_scale(COMMON_SCALE), test.on_scale(COMMON_SCALE)
    made = []
    for name, unit, lower, function in _MAPS:
        if name not in names:
            continue
        try:
            made.append(Map(name, unit, function(x, y), lower))
        except PictureError:
            continue  # too small, or not of the colours that the map needs
    return made


def _error(x: Float64, y: Float64) -> Float64:
    error = np.abs(x - y)
    return error if error.ndim == 2 else np.asarray(error.mean(axis=2))


def _ssim(x: Float64, y: Float64) -> Float64:
    check_window("ssim", x[..., 0] if x.ndim == 3 else x, 11)
    weights = gaussian_kernel(1.5, radius=5)
    c1, c2 = (0.01 * COMMON_SCALE) ** 2, (0.03 * COMMON_SCALE) ** 2
    planes = [(x, y)] if x.ndim == 2 else [(x[..., c], y[..., c]) for c in range(x.shape[2])]
    maps = [term_map(similarity, window_moments(a, b, weights), c1, c2) for a, b in planes]
    return np.asarray(np.mean(maps, axis=0))


def _gmsd(x: Float64, y: Float64) -> Float64:
    return gmsd_map(luma(x), luma(y), COMMON_SCALE)


def _delta_e(x: Float64, y: Float64) -> Float64:
    if x.shape[2:] != (3,):
        raise PictureError("colour differences are those of RGB pictures")
    return delta_e_map(x, y, COMMON_SCALE)


_MAPS: tuple[tuple[str, str, bool, Callable[[Float64, Float64], Float64]], ...] = (
    ("error", "dn of 8 bits", True, _error),
    ("ssim", "", False, _ssim),
    ("gmsd", "gradient similarity", False, _gmsd),
    ("delta-e", "ΔE00", True, _delta_e),
)
