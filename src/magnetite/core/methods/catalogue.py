"""One declaration per method: it feeds the chain parser, the command line, `methods` and the docs.

A method is a function with a declaration on top. Parameters after the `*` in its signature are
its settings; their annotations carry kind, unit, bounds and meaning, their defaults are the
method's: `sigma: Annotated[float, Length(0, 200), "standard deviation"] = 1.0`.
The decorated function stays an ordinary public function on arrays: the declaration checks
its arguments and, for a method that works channel by channel, calls it on each.
"""

from __future__ import annotations

import functools
import importlib
import pkgutil
import typing
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from importlib.metadata import entry_points
from types import MappingProxyType
from typing import Any, Literal, TypedDict, TypeVar, Unpack

from magnetite.core.limits import BYTES_PER_SAMPLE
from magnetite.core.methods.caching import declarations_changed
from magnetite.core.methods.declarations import (
    Codec,
    ColourPolicy,
    Conversion,
    Degradation,
    Direction,
    DrawsBy,
    Gauge,
    MaskRule,
    Memory,
    Method,
    MethodKind,
    Metric,
    Parameter,
    Reach,
    Restoration,
    Slabbed,
    Statistics,
)
from magnetite.core.methods.docstrings import docstring
from magnetite.core.methods.lifting import on_one, on_pair, on_pixels
from magnetite.core.methods.signatures import inputs_of, settings_of
from magnetite.core.methods.sums import Sums
from magnetite.core.picture.frame import Colour, Light

__all__ = [
    "ColourPolicy", "Method", "Parameter", "codec", "conversion", "degradation", "every", "find",
    "gauge", "metric", "restoration",
]  # fmt: skip

Function = TypeVar("Function", bound=Callable[..., Any])

#: The package that holds the families of each kind of method: each of its modules declares some.
PACKAGES: dict[MethodKind, str] = {
    "conversion": "magnetite.core.convert",
    "degradation": "magnetite.core.degrade",
    "codec": "magnetite.core.codecs",
    "restoration": "magnetite.core.restore",
    "metric": "magnetite.core.metrics",
    "gauge": "magnetite.core.gauges",
}
#: Entry-point group under which other packages name modules that declare methods.
PLUGIN_GROUP = "magnetite.methods"


class Needs(TypedDict, total=False):
    """Version, and declarations for schedulers; see the fields of `Method`."""

    reach: Reach
    statistics: Statistics
    memory: Memory
    version: int


_methods: dict[tuple[str, str], Method] = {}


def conversion(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    region: Callable[..., Any] | None = None,
    **needs: Unpack[Needs],
) -> Callable[[Function], Function]:
    """Declare a conversion: `function(picture, *, settings) -> picture`.

    `region(frame, **settings)` is the part of the picture it keeps, where it only crops.
    """
    return _declare(
        Conversion, "conversion", name, lambda given: given.function, needs, summary=summary,
        colour=colour, source=source, region=region,
    )  # fmt: skip


def degradation(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    one_of: tuple[str, ...] = (),
    certify: Callable[..., Any] | None = None,
    survey: Callable[..., Any] | None = None,
    draws_by: DrawsBy = "picture",
    draws: Callable[..., bool] | None = None,
    gives: Colour | None = None,
    gives_light: Light | None = None,
    linear: bool = False,
    **needs: Unpack[Needs],
) -> Callable[[Function], Function]:
    """Declare a degradation: `function(pixels, rng, *, settings) -> pixels`.

    Without an argument `rng` it draws no random numbers. `certify(change, **settings)` measures
    its effect on a whole picture, `survey(before, **settings)` band by band (see
    `degrade.certify`); where both are there, a survey of None leaves it to `certify`.
    `draws_by` says on which facts its random numbers depend, `draws(**settings)` whether it draws
    any, where that depends on settings, `gives` the colour of the result
    where it is another one, `gives_light` its relation to light likewise; `linear` that it is
    only right in linear light. Of the settings `one_of`, exactly one must be given.
    """
    return _declare(
        Degradation, "degradation", name,
        lambda given: _lift_pixels(given, colour), needs, summary=summary, colour=colour,
        source=source, one_of=one_of, certify=certify, survey=survey,
        draws_by=draws_by, draws=draws, gives=gives, gives_light=gives_light, linear=linear,
    )  # fmt: skip


def restoration(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    one_of: tuple[str, ...] = (),
    removes: Literal["noise", "blur"] | None = None,
    **needs: Unpack[Needs],
) -> Callable[[Function], Function]:
    """Declare a restoration: `function(pixels, *, settings) -> pixels`.

    Of the settings `one_of`, exactly one must be given. `removes` is "noise" for estimators of a
    picture in white Gaussian noise and "blur" for those that undo a blur that their settings
    describe; the error of both can be estimated without a reference.
    """
    return _declare(
        Restoration, "restoration", name,
        lambda given: _lift_pixels(given, colour), needs, summary=summary, colour=colour,
        source=source, one_of=one_of, removes=removes,
    )  # fmt: skip


def codec(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    quality: str,
    finer: Direction,
    points: str,
    one_of: tuple[str, ...] = (),
    yardstick: bool = False,
    slabbed: Slabbed = False,
    remark: Callable[..., list[str]] | None = None,
    **needs: Unpack[Needs],
) -> Callable[[Function], Function]:
    """Declare a codec: `function(frame, *, settings) -> Pipeline` (see `codecs.layers`).

    `quality` names the setting that trades rate for quality, `finer` which way of it is finer;
    `points` is the sweep of it that a curve uses when none is given. Of the settings `one_of`,
    exactly one must be given. A yardstick is somebody else's codec. `slabbed` says that it codes
    large pictures slab by slab (see `codecs.layers.slabs`). `remark(frame, sections, settings)`
    gives a remark on the coded picture.
    """
    return _declare(
        Codec, "codec", name, lambda given: given.function, needs, summary=summary, colour=colour,
        source=source, one_of=one_of, quality=quality, finer=finer, points=points,
        yardstick=yardstick, slabbed=slabbed, remark=remark,
    )  # fmt: skip


def metric(
    name: str,
    *,
    summary: str,
    colour: ColourPolicy,
    source: str,
    unit: str,
    values: str,
    better: Direction,
    identical: float | None,
    smallest: str = "1x1",
    tolerance: float | None = None,
    mask: MaskRule = None,
    clips: bool = False,
    integers: bool = False,
    sums: Sums | None = None,
    **needs: Unpack[Needs],
) -> Callable[[Function], Function]:
    """Declare a metric: `function(reference, test, peak=1.0, *, settings) -> float`.

    Besides the pictures the function takes the inputs that it names: `peak`, full scale; `within`,
    see below; `clear`, an array of bool or None: where no channel's noise is clipped (see
    `clipping`).

    `values` is the range of the score in words; `identical` the score of a picture against
    itself, None where that depends on the picture; `tolerance` is how close counts as reached
    where a setting is solved for it (0.5 % where none is declared). `mask` says how it takes
    a part of the picture of any shape: "samples" where it needs no neighbours and is given
    the part's samples as one column; "windows" where its function has an argument `within`, an
    array of bool, shape (h, w), and judges windows that lie wholly inside. `clips` says that
    samples outside the range count as black or full scale; `integers` that whole numbers are taken
    as they are, on the scale of their depth, where the figure scales by its unit (dn, dn²);
    `sums` how it is added up over parts.
    """
    return _declare(
        Metric, "metric", name,
        lambda given: on_pair(given.function, colour, name, mask, given.inputs, integers), needs,
        summary=summary, colour=colour, source=source, unit=unit, values=values, better=better,
        identical=identical, smallest=smallest, tolerance=tolerance, mask=mask, clips=clips,
        integers=integers, sums=sums,
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
    sums: Sums | None = None,
    **needs: Unpack[Needs],
) -> Callable[[Function], Function]:
    """Declare a gauge: `function(pixels, peak=1.0, *, settings) -> float`.

    `clips` says that samples outside the range count as black or full scale; `sums` how it is
    added up over parts.
    """
    return _declare(
        Gauge, "gauge", name,
        lambda given: on_one(given.function, colour, name, given.inputs), needs,
        summary=summary, colour=colour, source=source, unit=unit, values=values,
        smallest=smallest, tolerance=tolerance, clips=clips, sums=sums,
    )  # fmt: skip


def find(kind: str, name: str) -> Method | None:
    """The method of that kind and name, or None."""
    _load(kind)
    return _methods.get((kind, name))


def declared_by(function: Callable[..., Any]) -> Method:
    """The method that a function was declared as; also one that came from another process.

    It replaces an earlier declaration of its name.

    Raises
    ------
    TypeError
        If the function was not declared.
    """
    method = getattr(function, "method", None)
    if not isinstance(method, Method):
        raise TypeError(f"{getattr(function, '__name__', function)} is not declared as a method")
    _load(method.kind)
    if _methods.get((method.kind, method.name)) is not method:
        _methods[method.kind, method.name] = method
        declarations_changed()
    return method


def forget(kind: str, name: str) -> None:
    """Take a declaration back, so that another may take its name."""
    del _methods[typing.cast(MethodKind, kind), name]
    declarations_changed()


def every(kind: str | None = None) -> list[Method]:
    """All methods, or those of one kind: by kind, family and position in the family's module."""
    for one in PACKAGES:
        _load(one)
    kinds = PACKAGES if kind is None else (typing.cast(MethodKind, kind),)
    return [method for one in kinds for method in _in_order(one)]


def _in_order(kind: MethodKind) -> list[Method]:
    """Methods of one kind, by their families' names, whatever was imported first; others' last."""
    position = {module: number for number, module in enumerate(families(kind))}
    own = [method for method in _methods.values() if method.kind == kind]
    return sorted(own, key=lambda m: position.get(m.function.__module__, len(position)))


@functools.cache
def families(kind: MethodKind) -> tuple[str, ...]:
    """Modules that declare the built-in methods of a kind; `_modules` and packages share code."""
    package = importlib.import_module(PACKAGES[kind])
    found = pkgutil.iter_modules(package.__path__, f"{package.__name__}.")
    return tuple(sorted(m.name for m in found if not m.ispkg and "._" not in m.name))


@functools.cache
def _load(kind: str) -> None:
    """Import all that declares methods of a kind, once."""
    _load_plugins()
    if kind in PACKAGES:
        for module in families(kind):
            importlib.import_module(module)


@functools.cache
def _load_plugins() -> None:
    for entry in entry_points(group=PLUGIN_GROUP):
        try:
            entry.load()
        except Exception as error:  # a broken plug-in must not take the tool down with it
            warnings.warn(f"plug-in {entry.name!r} skipped: {error}", stacklevel=2)


@dataclass(frozen=True)
class _Given:
    """A function as it was written, and the declarations of its signature."""

    function: Callable[..., Any]
    inputs: tuple[str, ...]
    parameters: tuple[Parameter, ...]
    one_of: tuple[str, ...]


def _lift_pixels(given: _Given, colour: ColourPolicy) -> Callable[..., Any]:
    estimates = {
        p.name: p.kind for p in given.parameters if p.kind.estimated and p.key not in given.one_of
    }
    return on_pixels(given.function, colour, estimates)


def _declare(
    make: Callable[..., Method],
    kind: MethodKind,
    name: str,
    lift: Callable[[_Given], Callable[..., Any]],
    needs: Needs,
    **facts: Any,
) -> Callable[[Function], Function]:
    def declare(function: Function) -> Function:
        if (kind, name) in _methods:
            raise ValueError(f"a {kind} named {name!r} is declared already")
        one_of = facts.pop("one_of", ())
        given = _Given(function, inputs_of(function), settings_of(function), one_of)
        lifted = lift(given)
        written = {p.key: p for p in given.parameters if not p.kind.implicit}
        method = make(
            kind=kind, name=name, function=lifted, one_of=one_of, inputs=given.inputs,
            parameters=MappingProxyType(written),
            implicit=tuple(p for p in given.parameters if p.kind.implicit),
            **{"reach": None, "statistics": False, "memory": BYTES_PER_SAMPLE, **needs}, **facts,
        )  # fmt: skip
        _methods[kind, name] = method
        declarations_changed()
        lifted.method = method  # type: ignore[attr-defined]
        lifted.__doc__ = docstring(method)
        return typing.cast(Function, lifted)

    return declare
