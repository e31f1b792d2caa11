"""One declaration per method: it feeds the chain parser, the command line, `methods` and the docs.

A method is a function with a declaration on top. What follows the `*` in its signature are
its settings; their annotations carry kind, unit and bounds, their defaults are the method's.
The decorated function stays an ordinary public function on arrays: the declaration checks
what it is given and, for a method that works channel by channel, calls it on each.
"""

from __future__ import annotations

import functools
import importlib
import inspect
import typing
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from importlib.metadata import entry_points
from types import MappingProxyType
from typing import Any, Literal, TypeVar, get_args, get_origin

import numpy as np

from magnetite.core.errors import PictureError
from magnetite.core.parameters import Choice, Kind
from magnetite.core.picture import Pixels, luma

Function = TypeVar("Function", bound=Callable[..., Any])
MethodKind = Literal["degradation", "codec", "restoration", "metric", "gauge"]

#: Modules whose import declares the built-in methods, one per family.
FAMILIES = (
    "magnetite.core.degrade.noise",
    "magnetite.core.degrade.blur",
    "magnetite.core.degrade.levels",
    "magnetite.core.codecs.dct",
    "magnetite.core.restore.smoothing",
    "magnetite.core.metrics.error",
    "magnetite.core.metrics.structure",
    "magnetite.core.metrics.sharpness",
)
#: Entry-point group under which other packages name modules that declare methods.
PLUGIN_GROUP = "magnetite.methods"


class ColourPolicy(Enum):
    """What a method does with more than one channel."""

    EACH = "each channel by itself"
    JOINT = "all channels together"
    LUMA = "luma of colour pictures"


@dataclass(frozen=True)
class Parameter:
    """One setting of a method; `default` is `inspect.Parameter.empty` where one must be given."""

    name: str
    kind: Kind
    default: Any

    @property
    def required(self) -> bool:
        return self.default is inspect.Parameter.empty

    @property
    def default_text(self) -> str | None:
        """The default as it would be written, or None where a value must be given."""
        return None if self.required else self.kind.spell(self.default)


@dataclass(frozen=True)
class Method:
    """The declaration of one method."""

    kind: MethodKind
    name: str
    summary: str
    colour: ColourPolicy
    source: str
    function: Callable[..., Any]
    parameters: MappingProxyType[str, Parameter]
    #: What a kind of method declares beyond this: see the decorator of that kind.
    traits: MappingProxyType[str, Any]


_methods: dict[tuple[str, str], Method] = {}


def degradation(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    certify: Callable[..., Any] | None = None,
) -> Callable[[Function], Function]:
    """Declare a degradation: `function(pixels, rng, *, settings) -> pixels`.

    `certify(change, **settings)` measures what it did (see `degrade.certificate`).
    """
    return _declare("degradation", name, summary, colour, source, _on_pixels, certify=certify)


def restoration(
    name: str, *, summary: str, colour: ColourPolicy, source: str
) -> Callable[[Function], Function]:
    """Declare a restoration: `function(pixels, *, settings) -> pixels`."""
    return _declare("restoration", name, summary, colour, source, _on_pixels)


def codec(
    name: str, *, summary: str, colour: ColourPolicy, source: str, quality: str, points: str
) -> Callable[[Function], Function]:
    """Declare a codec: `function(frame, *, settings) -> Pipeline` (see `codecs.layers`).

    `quality` names the setting that trades rate for quality; `points` is the sweep of it
    that a curve uses when none is given.
    """
    return _declare(
        "codec", name, summary, colour, source, lambda function, _: function,
        quality=quality, points=points,
    )  # fmt: skip


def metric(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    unit: str,
    better: Literal["higher", "lower"],
    identical: float,
    smallest: str = "1x1",
) -> Callable[[Function], Function]:
    """Declare a metric: `function(reference, test, peak=1.0, *, settings) -> float`.

    `identical` is the score of a picture against itself.
    """
    return _declare(
        "metric", name, summary, colour, source, _on_pair,
        unit=unit, better=better, identical=identical, smallest=smallest,
    )  # fmt: skip


def gauge(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    unit: str,
    smallest: str = "1x1",
) -> Callable[[Function], Function]:
    """Declare a gauge: `function(pixels, peak=1.0, *, settings) -> float`."""
    return _declare("gauge", name, summary, colour, source, _on_one, unit=unit, smallest=smallest)


def find(kind: str, name: str) -> Method | None:
    """The method of that kind and name, or None."""
    _load()
    return _methods.get((kind, name))


def every(kind: str | None = None) -> list[Method]:
    """All methods, or those of one kind, in the order of their declaration."""
    _load()
    return [method for method in _methods.values() if kind in (None, method.kind)]


@functools.cache
def _load() -> None:
    for module in FAMILIES:
        importlib.import_module(module)
    for entry in entry_points(group=PLUGIN_GROUP):
        try:
            entry.load()
        except Exception as error:  # a broken plug-in must not take the tool down with it
            warnings.warn(f"plug-in {entry.name!r} skipped: {error}", stacklevel=2)


def _declare(
    kind: MethodKind,
    name: str,
    summary: str,
    colour: ColourPolicy,
    source: str,
    lift: Callable[[Callable[..., Any], ColourPolicy], Callable[..., Any]],
    **traits: Any,
) -> Callable[[Function], Function]:
    def declare(function: Function) -> Function:
        if (kind, name) in _methods:
            raise ValueError(f"a {kind} named {name!r} is declared already")
        lifted = lift(function, colour)
        _methods[kind, name] = Method(
            kind, name, summary, colour, source, lifted,
            MappingProxyType(_parameters(function)), MappingProxyType(traits),
        )  # fmt: skip
        return typing.cast(Function, lifted)

    return declare


def _parameters(function: Callable[..., Any]) -> dict[str, Parameter]:
    hints = typing.get_type_hints(function, include_extras=True)
    settings = [
        p
        for p in inspect.signature(function).parameters.values()
        if p.kind is inspect.Parameter.KEYWORD_ONLY
    ]
    return {
        p.name.replace("_", "-"): Parameter(p.name, _kind_of(hints[p.name]), p.default)
        for p in settings
    }


def _kind_of(hint: Any) -> Kind:
    if get_origin(hint) is Literal:
        return Choice(get_args(hint))
    for extra in getattr(hint, "__metadata__", ()):
        if isinstance(extra, Kind):
            return extra
    raise TypeError(f"a setting's annotation must be a Literal or carry a Kind, not {hint}")


def _on_pixels(function: Callable[..., Any], colour: ColourPolicy) -> Callable[..., Any]:
    @functools.wraps(function)
    def lifted(pixels: Pixels, *rest: Any, **settings: Any) -> Pixels:
        pixels = check_pixels(pixels)
        if colour is ColourPolicy.EACH and pixels.ndim == 3:
            planes = [function(plane, *rest, **settings) for plane in _planes(pixels)]
            return np.stack(planes, axis=-1)
        result: Pixels = function(pixels, *rest, **settings)
        return result

    return lifted


def _on_pair(function: Callable[..., Any], colour: ColourPolicy) -> Callable[..., Any]:
    @functools.wraps(function)
    def lifted(reference: Any, test: Any, peak: float = 1.0, **settings: Any) -> float:
        reference, test = np.asarray(reference), np.asarray(test)
        if reference.shape != test.shape:
            raise PictureError(
                f"the pictures differ in shape, {reference.shape} and {test.shape}: "
                "a score needs the same size and colour"
            )
        reference, test = _as_float(reference), _as_float(test)
        if colour is ColourPolicy.EACH and reference.ndim == 3:
            pairs = zip(_planes(reference), _planes(test), strict=True)
            return float(np.mean([function(r, t, peak, **settings) for r, t in pairs]))
        if colour is ColourPolicy.LUMA:
            reference, test = luma(reference), luma(test)
        return float(function(reference, test, peak, **settings))

    return lifted


def _on_one(function: Callable[..., Any], colour: ColourPolicy) -> Callable[..., Any]:
    @functools.wraps(function)
    def lifted(pixels: Any, peak: float = 1.0, **settings: Any) -> float:
        pixels = _as_float(np.asarray(pixels))
        if colour is ColourPolicy.EACH and pixels.ndim == 3:
            return float(np.mean([function(p, peak, **settings) for p in _planes(pixels)]))
        return float(
            function(luma(pixels) if colour is ColourPolicy.LUMA else pixels, peak, **settings)
        )

    return lifted


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


def _planes(pixels: Pixels) -> list[Pixels]:
    return [np.ascontiguousarray(pixels[..., c]) for c in range(pixels.shape[2])]


def _as_float(samples: Any) -> Pixels:
    """float64 copy of a picture's samples; the metrics' own precision."""
    if samples.ndim not in (2, 3) or samples.size == 0:
        raise PictureError(f"expected samples of shape (h, w) or (h, w, n), got {samples.shape}")
    return np.asarray(samples, dtype=np.float64)
