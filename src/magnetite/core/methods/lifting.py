"""Functions on planes or arrays as functions on pictures: channel by channel, on luma, checked."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any, TypeVar

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.compute.sharing import shared
from magnetite.core.errors import MagnetiteError, PictureError
from magnetite.core.methods.declarations import ColourPolicy, MaskRule
from magnetite.core.methods.parameters import Kind
from magnetite.core.picture import luma
from magnetite.core.picture.clipping import clear_of_ends
from magnetite.core.quantities import counted

Result = TypeVar("Result")
#: The metrics' own precision, and the types that some take as they are.
_PRECISION, _WHOLE = np.float64, (np.uint8, np.uint16)


def on_pixels(
    function: Callable[..., Any], colour: ColourPolicy, estimates: Mapping[str, Kind]
) -> Callable[..., Any]:
    """`estimates` are settings that are estimated from all channels where they are left out."""

    @functools.wraps(function)
    def lifted(pixels: Pixels, *rest: Any, **settings: Any) -> Pixels:
        pixels = check_pixels(pixels)
        _check_rgb(function, pixels, colour)
        if colour is ColourPolicy.EACH and pixels.ndim == 3:
            for name, kind in estimates.items():
                if settings.get(name) is None:
                    settings[name] = kind.estimate(pixels)
            planes = [function(plane, *rest, **settings) for plane in split(pixels)]
            return np.stack(planes, axis=-1)
        result: Pixels = function(pixels, *rest, **settings)
        return result

    return lifted


def on_pair(
    function: Callable[..., Any],
    colour: ColourPolicy,
    name: str,
    mask: MaskRule,
    inputs: Sequence[str],
    integers: bool,
) -> Callable[..., Any]:
    """`inputs` are the names of the function's parameters besides its settings.

    `integers` says that it takes pairs of uint8 or uint16 as they are, not in float64.
    """

    @functools.wraps(function)
    def lifted(
        reference: Any, test: Any, peak: float = 1.0, within: Any = None, **settings: Any
    ) -> float:
        reference, test = np.asarray(reference), np.asarray(test)
        if reference.shape != test.shape:
            raise PictureError(
                f"the pictures differ in shape, {reference.shape} and {test.shape}: "
                "a score needs the same size and colour"
            )
        whole = integers and reference.dtype == test.dtype and test.dtype in _WHOLE
        reference, test = (_checked(s, s.dtype if whole else _PRECISION) for s in (reference, test))
        _check_rgb(function, reference, colour)
        if "peak" in inputs:
            settings["peak"] = peak
        if "clear" in inputs:
            settings["clear"] = shared(clear_of_ends, reference, test, peak=peak)
        if colour is ColourPolicy.LUMA:
            reference, test = shared(luma, reference), shared(luma, test)
        if within is not None:
            within = _check_mask(within, reference, name, mask)
            if mask == "samples":
                reference, test = reference[within][:, np.newaxis], test[within][:, np.newaxis]
            else:
                settings["within"] = within
        pairs = [(reference, test)]
        if colour is ColourPolicy.EACH and reference.ndim == 3:
            planes = (shared(split, pixels) for pixels in (reference, test))
            pairs = list(zip(*planes, strict=True))
        figures = [_figure(name, function, pair, peak, settings) for pair in pairs]
        return float(np.mean(figures)) if len(figures) > 1 else figures[0]

    return lifted


def _figure(
    name: str,
    function: Callable[..., Any],
    pictures: Sequence[Pixels],
    peak: float,
    settings: Mapping[str, Any],
) -> float:
    """The function's result; `PictureError` where the samples are too large or small for it."""
    value = computed(name, lambda: float(function(*pictures, **settings)), pictures, peak)
    if math.isnan(value):
        raise _not_computed(name, "not a number", pictures, peak)
    return value


def computed(
    name: str, compute: Callable[[], Result], pictures: Sequence[Pixels], peak: float
) -> Result:
    """A result; `PictureError` where the samples of its pictures are too large or small for it."""
    try:
        with np.errstate(over="raise", invalid="raise", divide="raise"):
            return compute()
    except MagnetiteError:
        raise
    except (ArithmeticError, ValueError) as error:
        raise _not_computed(name, error, pictures, peak) from None


def _not_computed(
    name: str, reason: object, pictures: Sequence[Pixels], peak: float
) -> PictureError:
    largest = max(float(np.abs(p).max()) for p in pictures)
    return PictureError(
        f"{name} cannot be computed ({reason}): samples reach {largest:.4g}, and full scale is "
        f"{peak:g}"
    )


def _check_mask(within: Any, pixels: Pixels, name: str, mask: MaskRule) -> Any:
    inside = np.asarray(within, bool)
    if mask is None:
        raise PictureError(f"{name} takes no mask: it needs a rectangle; name a region")
    if inside.shape != pixels.shape[:2]:
        raise PictureError(
            f"the mask is {inside.shape[1]}x{inside.shape[0]}, "
            f"the picture {pixels.shape[1]}x{pixels.shape[0]}: they must have one size"
        )
    if not inside.any():
        raise PictureError("the mask leaves nothing: it is black everywhere")
    return inside


def on_one(
    function: Callable[..., Any], colour: ColourPolicy, name: str, inputs: Sequence[str]
) -> Callable[..., Any]:
    """`inputs` are the names of the function's parameters besides its settings."""

    @functools.wraps(function)
    def lifted(pixels: Any, peak: float = 1.0, **settings: Any) -> float:
        if "peak" in inputs:
            settings["peak"] = peak
        pixels = _checked(np.asarray(pixels), _PRECISION)
        planes = [shared(luma, pixels) if colour is ColourPolicy.LUMA else pixels]
        if colour is ColourPolicy.EACH and pixels.ndim == 3:
            planes = shared(split, pixels)
        figures = [_figure(name, function, [plane], peak, settings) for plane in planes]
        return float(np.mean(figures)) if len(figures) > 1 else figures[0]

    return lifted


def _check_rgb(function: Callable[..., Any], pixels: Pixels, colour: ColourPolicy) -> None:
    if colour is ColourPolicy.RGB and pixels.shape[2:] != (3,):
        raise PictureError(
            f"{function.__name__.replace('_', '-')} needs an RGB picture; this one has "
            f"{counted(1 if pixels.ndim == 2 else pixels.shape[2], 'channel')}"
        )


def check_pixels(pixels: Any) -> Pixels:
    """Float samples of shape (h, w) or (h, w, n); anything else is a `PictureError`."""
    array: Pixels = np.asarray(pixels)
    if array.ndim not in (2, 3) or array.size == 0:
        raise PictureError(f"expected samples of shape (h, w) or (h, w, n), got {array.shape}")
    if not np.issubdtype(array.dtype, np.floating):
        raise PictureError(
            f"expected float samples on 0..1, got {array.dtype}: divide by full scale"
        )
    return array


def split(pixels: Pixels) -> list[Pixels]:
    """The planes of samples of shape (h, w, n), each contiguous."""
    return [np.ascontiguousarray(pixels[..., c]) for c in range(pixels.shape[2])]


def _checked(samples: Any, dtype: Any) -> Any:
    """A picture's samples in a type, a copy only where they have another."""
    if samples.ndim not in (2, 3) or samples.size == 0:
        raise PictureError(f"expected samples of shape (h, w) or (h, w, n), got {samples.shape}")
    return np.asarray(samples, dtype=dtype)
