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
import math
import re
import typing
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from importlib.metadata import entry_points
from types import MappingProxyType
from typing import Any, Literal, TypeVar, get_args, get_origin

import numpy as np

from magnetite.core.clipping import clear_of_ends
from magnetite.core.errors import MagnetiteError, PictureError
from magnetite.core.parameters import Choice, Kind
from magnetite.core.picture import Pixels, luma

Function = TypeVar("Function", bound=Callable[..., Any])
MethodKind = Literal["degradation", "codec", "restoration", "metric", "gauge"]
Mask = Literal["samples", "windows"] | None

#: Modules whose import declares the built-in methods, one per family.
FAMILIES = (
    "magnetite.core.degrade.noise",
    "magnetite.core.degrade.impulses",
    "magnetite.core.degrade.photons",
    "magnetite.core.degrade.patterns",
    "magnetite.core.degrade.blur",
    "magnetite.core.degrade.resampling",
    "magnetite.core.degrade.levels",
    "magnetite.core.degrade.tone",
    "magnetite.core.codecs.dct",
    "magnetite.core.codecs.wavelet",
    "magnetite.core.codecs.predictive",
    "magnetite.core.codecs.pcm",
    "magnetite.core.codecs.fourier",
    "magnetite.core.codecs.lowrank",
    "magnetite.core.codecs.yardsticks",
    "magnetite.core.restore.smoothing",
    "magnetite.core.restore.order",
    "magnetite.core.restore.shrinkage",
    "magnetite.core.restore.patches",
    "magnetite.core.restore.collaborative",
    "magnetite.core.restore.variational",
    "magnetite.core.restore.deblurring",
    "magnetite.core.restore.artefacts",
    "magnetite.core.restore.stabilise",
    "magnetite.core.metrics.error",
    "magnetite.core.metrics.structure",
    "magnetite.core.metrics.weighting",
    "magnetite.core.metrics.gradient",
    "magnetite.core.metrics.phase",
    "magnetite.core.metrics.information",
    "magnetite.core.metrics.colour",
    "magnetite.core.metrics.residual",
    "magnetite.core.metrics.sharpness",
    "magnetite.core.metrics.edge_width",
    "magnetite.core.metrics.noise_level",
    "magnetite.core.metrics.artefacts",
    "magnetite.core.metrics.tone",
    "magnetite.core.metrics.naturalness",
)
#: Entry-point group under which other packages name modules that declare methods.
PLUGIN_GROUP = "magnetite.methods"


class ColourPolicy(Enum):
    """What a method does with more than one channel."""

    EACH = "each channel by itself"
    JOINT = "all channels together"
    LUMA = "luma of colour pictures"
    RGB = "colour pictures only"


@dataclass(frozen=True)
class Parameter:
    """One setting of a method.

    `default` is `inspect.Parameter.empty` where a value must be given, and None where leaving
    the setting out is a choice of its own.
    """

    name: str
    kind: Kind
    default: Any

    @property
    def key(self) -> str:
        """The name as it is written in a chain."""
        return self.name.replace("_", "-")

    @property
    def required(self) -> bool:
        return self.default is inspect.Parameter.empty

    @property
    def default_text(self) -> str | None:
        """The default as it would be written; None where there is none to write."""
        return None if self.required or self.default is None else self.kind.spell(self.default)


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
    #: Parameters that follow from the picture and are never written.
    implicit: tuple[Parameter, ...]
    #: Keys of which exactly one must be given.
    one_of: tuple[str, ...]
    #: What a kind of method declares beyond this: see the decorator of that kind.
    traits: MappingProxyType[str, Any]

    @property
    def complete(self) -> bool:
        """Whether it can be used without any setting."""
        return not self.one_of and not any(p.required for p in self.parameters.values())

    @property
    def formula(self) -> str:
        """What the function's docstring says before its first section."""
        body = inspect.getdoc(self.function) or ""
        return re.split(r"\n\w+\n---", body)[0].strip()

    @property
    def example(self) -> str:
        """The method with a value for every setting that must be given."""
        given = [key for key, parameter in self.parameters.items() if parameter.required]
        keys = [*self.one_of[:1], *given]
        return " ".join([self.name, *(f"{k}={self.parameters[k].kind.example()}" for k in keys)])


_methods: dict[tuple[str, str], Method] = {}


def degradation(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    one_of: tuple[str, ...] = (),
    certify: Callable[..., Any] | None = None,
) -> Callable[[Function], Function]:
    """Declare a degradation: `function(pixels, rng, *, settings) -> pixels`.

    `certify(change, **settings)` measures what it did (see `degrade.certificate`). Of the
    settings `one_of`, exactly one must be given.
    """
    return _declare(
        "degradation", name, summary, colour, source, _on_pixels, one_of, certify=certify
    )


def restoration(
    name: str, *, summary: str, colour: ColourPolicy, source: str, one_of: tuple[str, ...] = ()
) -> Callable[[Function], Function]:
    """Declare a restoration: `function(pixels, *, settings) -> pixels`.

    Of the settings `one_of`, exactly one must be given.
    """
    return _declare("restoration", name, summary, colour, source, _on_pixels, one_of)


def codec(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    quality: str,
    finer: Literal["lower", "higher"],
    points: str,
    one_of: tuple[str, ...] = (),
    yardstick: bool = False,
    remark: Callable[..., list[str]] | None = None,
) -> Callable[[Function], Function]:
    """Declare a codec: `function(frame, *, settings) -> Pipeline` (see `codecs.layers`).

    `quality` names the setting that trades rate for quality, `finer` which way of it is finer;
    `points` is the sweep of it that a curve uses when none is given. Of the settings `one_of`,
    exactly one must be given. A yardstick is somebody else's codec. `remark(frame, sections,
    settings)` gives what is to be said of what was coded.
    """
    return _declare(
        "codec", name, summary, colour, source, lambda function, _: function, one_of,
        quality=quality, finer=finer, points=points, yardstick=yardstick, remark=remark,
    )  # fmt: skip


def metric(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    unit: str,
    values: str,
    better: Literal["higher", "lower"],
    identical: float | None,
    smallest: str = "1x1",
    tolerance: float | None = None,
    mask: Mask = None,
    clips: bool = False,
    unclipped: bool = False,
) -> Callable[[Function], Function]:
    """Declare a metric: `function(reference, test, peak=1.0, *, settings) -> float`.

    `values` is the range of the score in words; `identical` the score of a picture against
    itself, None where that depends on the picture; `tolerance` is how close counts as reached
    where a setting is solved for it (0.5 % where none is declared). `mask` says how it takes
    a part of the picture of any shape: "samples" where it needs no neighbours and is given
    the part's samples as one column; "windows" where its function has an argument `within`, an
    array of bool, shape (h, w), and judges what lies wholly inside. `clips` says that samples
    outside the range count as black or full scale; `unclipped` that the function has an argument
    `clear`, an array of bool or None: where no channel's noise is clipped (see `clipping`).
    """
    return _declare(
        "metric", name, summary, colour, source,
        lambda function, policy: _on_pair(function, policy, name, mask, unclipped),
        unit=unit, values=values, better=better, identical=identical, smallest=smallest,
        tolerance=tolerance, mask=mask, clips=clips,
    )  # fmt: skip


def gauge(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    unit: str,
    values: str,
    smallest: str = "1x1",
    tolerance: float | None = None,
    clips: bool = False,
) -> Callable[[Function], Function]:
    """Declare a gauge: `function(pixels, peak=1.0, *, settings) -> float`.

    `clips` says that samples outside the range count as black or full scale.
    """
    return _declare(
        "gauge", name, summary, colour, source,
        lambda function, policy: _on_one(function, policy, name),
        unit=unit, values=values, smallest=smallest, tolerance=tolerance, clips=clips,
    )  # fmt: skip


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
    one_of: tuple[str, ...] = (),
    **traits: Any,
) -> Callable[[Function], Function]:
    def declare(function: Function) -> Function:
        if (kind, name) in _methods:
            raise ValueError(f"a {kind} named {name!r} is declared already")
        lifted = lift(function, colour)
        parameters = _parameters(function)
        written = {p.key: p for p in parameters if not p.kind.implicit}
        implicit = tuple(p for p in parameters if p.kind.implicit)
        _methods[kind, name] = Method(
            kind, name, summary, colour, source, lifted,
            MappingProxyType(written), implicit, one_of, MappingProxyType(traits),
        )  # fmt: skip
        return typing.cast(Function, lifted)

    return declare


def _parameters(function: Callable[..., Any]) -> list[Parameter]:
    hints = typing.get_type_hints(function, include_extras=True)
    return [
        Parameter(p.name, _kind_of(hints[p.name]), p.default)
        for p in inspect.signature(function).parameters.values()
        if p.kind is inspect.Parameter.KEYWORD_ONLY
    ]


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
        _check_rgb(function, pixels, colour)
        if colour is ColourPolicy.EACH and pixels.ndim == 3:
            planes = [function(plane, *rest, **settings) for plane in _planes(pixels)]
            return np.stack(planes, axis=-1)
        result: Pixels = function(pixels, *rest, **settings)
        return result

    return lifted


def _on_pair(
    function: Callable[..., Any], colour: ColourPolicy, name: str, mask: Mask, unclipped: bool
) -> Callable[..., Any]:
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
        reference, test = _as_float(reference), _as_float(test)
        _check_rgb(function, reference, colour)
        if unclipped:
            settings["clear"] = clear_of_ends(reference, test, peak)
        if colour is ColourPolicy.LUMA:
            reference, test = luma(reference), luma(test)
        if within is not None:
            within = _check_mask(within, reference, name, mask)
            if mask == "samples":
                reference, test = reference[within][:, np.newaxis], test[within][:, np.newaxis]
            else:
                settings["within"] = within
        pairs = [(reference, test)]
        if colour is ColourPolicy.EACH and reference.ndim == 3:
            pairs = list(zip(_planes(reference), _planes(test), strict=True))
        figures = [_figure(name, function, r, t, peak, **settings) for r, t in pairs]
        return float(np.mean(figures)) if len(figures) > 1 else figures[0]

    return lifted


def _figure(name: str, function: Callable[..., Any], *arguments: Any, **settings: Any) -> float:
    """What the function gives; `PictureError` where the samples are too large or small for it."""
    try:
        with np.errstate(over="raise", invalid="raise", divide="raise"):
            value = float(function(*arguments, **settings))
    except MagnetiteError:
        raise
    except (ArithmeticError, ValueError) as error:
        reason: object = error
    else:
        if not math.isnan(value):
            return value
        reason = "not a number"
    *pictures, peak = arguments
    largest = max(float(np.abs(p).max()) for p in pictures)
    raise PictureError(
        f"{name} cannot be computed ({reason}): samples reach {largest:.4g}, and full scale is "
        f"{peak:g}"
    )


def _check_mask(within: Any, pixels: Pixels, name: str, mask: Mask) -> Any:
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


def _on_one(function: Callable[..., Any], colour: ColourPolicy, name: str) -> Callable[..., Any]:
    @functools.wraps(function)
    def lifted(pixels: Any, peak: float = 1.0, **settings: Any) -> float:
        pixels = _as_float(np.asarray(pixels))
        planes = [luma(pixels) if colour is ColourPolicy.LUMA else pixels]
        if colour is ColourPolicy.EACH and pixels.ndim == 3:
            planes = _planes(pixels)
        figures = [_figure(name, function, plane, peak, **settings) for plane in planes]
        return float(np.mean(figures)) if len(figures) > 1 else figures[0]

    return lifted


def _check_rgb(function: Callable[..., Any], pixels: Pixels, colour: ColourPolicy) -> None:
    if colour is ColourPolicy.RGB and pixels.shape[2:] != (3,):
        raise PictureError(
            f"{function.__name__.replace('_', '-')} needs an RGB picture; this one has "
            f"{1 if pixels.ndim == 2 else pixels.shape[2]} channels"
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


def _planes(pixels: Pixels) -> list[Pixels]:
    return [np.ascontiguousarray(pixels[..., c]) for c in range(pixels.shape[2])]


def _as_float(samples: Any) -> Pixels:
    """float64 copy of a picture's samples; the metrics' own precision."""
    if samples.ndim not in (2, 3) or samples.size == 0:
        raise PictureError(f"expected samples of shape (h, w) or (h, w, n), got {samples.shape}")
    return np.asarray(samples, dtype=np.float64)
