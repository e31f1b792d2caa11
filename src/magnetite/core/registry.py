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
from importlib.metadata import entry_points
from types import MappingProxyType
from typing import Any, Literal, TypeVar, get_args, get_origin

from magnetite.core.colour_lifting import on_one, on_pair, on_pixels
from magnetite.core.declarations import (
    Codec,
    ColourPolicy,
    Degradation,
    Direction,
    Gauge,
    MaskRule,
    Method,
    MethodKind,
    Metric,
    Parameter,
    Restoration,
)
from magnetite.core.parameters import Choice, Kind

__all__ = [
    "ColourPolicy", "Method", "Parameter", "codec", "degradation", "every", "find", "gauge",
    "metric", "restoration",
]  # fmt: skip

Function = TypeVar("Function", bound=Callable[..., Any])

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
        Degradation, "degradation", name, on_pixels, summary=summary, colour=colour,
        source=source, one_of=one_of, certify=certify,
    )  # fmt: skip


def restoration(
    name: str, *, summary: str, colour: ColourPolicy, source: str, one_of: tuple[str, ...] = ()
) -> Callable[[Function], Function]:
    """Declare a restoration: `function(pixels, *, settings) -> pixels`.

    Of the settings `one_of`, exactly one must be given.
    """
    return _declare(
        Restoration, "restoration", name, on_pixels, summary=summary, colour=colour,
        source=source, one_of=one_of,
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
    remark: Callable[..., list[str]] | None = None,
) -> Callable[[Function], Function]:
    """Declare a codec: `function(frame, *, settings) -> Pipeline` (see `codecs.layers`).

    `quality` names the setting that trades rate for quality, `finer` which way of it is finer;
    `points` is the sweep of it that a curve uses when none is given. Of the settings `one_of`,
    exactly one must be given. A yardstick is somebody else's codec. `remark(frame, sections,
    settings)` gives a remark on what was coded.
    """
    return _declare(
        Codec, "codec", name, lambda function, _: function, summary=summary, colour=colour,
        source=source, one_of=one_of, quality=quality, finer=finer, points=points,
        yardstick=yardstick, remark=remark,
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
        Metric, "metric", name,
        lambda function, policy: on_pair(function, policy, name, mask, unclipped),
        summary=summary, colour=colour, source=source, unit=unit, values=values, better=better,
        identical=identical, smallest=smallest, tolerance=tolerance, mask=mask, clips=clips,
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
        Gauge, "gauge", name, lambda function, policy: on_one(function, policy, name),
        summary=summary, colour=colour, source=source, unit=unit, values=values,
        smallest=smallest, tolerance=tolerance, clips=clips,
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
    make: Callable[..., Method],
    kind: MethodKind,
    name: str,
    lift: Callable[[Callable[..., Any], ColourPolicy], Callable[..., Any]],
    **facts: Any,
) -> Callable[[Function], Function]:
    def declare(function: Function) -> Function:
        if (kind, name) in _methods:
            raise ValueError(f"a {kind} named {name!r} is declared already")
        lifted = lift(function, facts["colour"])
        parameters = _parameters(function)
        written = {p.key: p for p in parameters if not p.kind.implicit}
        implicit = tuple(p for p in parameters if p.kind.implicit)
        _methods[kind, name] = make(
            kind=kind, name=name, function=lifted, parameters=MappingProxyType(written),
            implicit=implicit, **({"one_of": ()} | facts),
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
