"""Points of rate-distortion curves: a codec's settings, coded, decoded and scored."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.chain.notation import parse_sweep
from magnetite.core.chain.step import Step
from magnetite.core.errors import ChainError, InputError, TargetError
from magnetite.core.methods.declarations import Codec, Metric
from magnetite.core.operations.aim import Target
from magnetite.core.operations.coding import Compressed
from magnetite.core.operations.compress import compress
from magnetite.core.operations.rate import compress_to_rate, open_step, solve_step
from magnetite.core.operations.score import Scorer, score
from magnetite.core.operations.selection import Selection
from magnetite.core.picture import Picture
from magnetite.core.quantities import read_quantity

#: Rates are looked for on a part of at most this height and width, in px.
_SAMPLE = 512


@dataclass(frozen=True)
class Point:
    """One coded picture: the codec's step, the rate of its stream and its scores.

    `left_out` says why metrics have no score.
    """

    step: Step
    bpp: float
    bytes: int
    scores: dict[str, float]
    left_out: Mapping[str, str] = field(default_factory=dict)


class CurveCodec(NamedTuple):
    """A codec of one curve: its name, and the steps that its text gives."""

    name: str
    steps: tuple[Step, ...]


def curve_codecs(codecs: Sequence[str]) -> list[CurveCodec]:
    """Codecs with a sweep, or without their quality; of one curve each.

    Points of unlike blocks or filters are no curve together: `dct step=4dn,8dn block=4,8` is
    `dct step=4dn,8dn block=4` and the same with `block=8`.

    Raises
    ------
    ChainError
        If a text cannot be read or is a chain of several steps.
    InputError
        If a codec is named twice with the same settings.
    """
    made = [one for text in codecs for one in _of_one_curve(text)]
    names = [one.name for one in made]
    if twice := [name for k, name in enumerate(names) if name in names[:k]]:
        raise InputError(f"the codec {twice[0]!r} is named twice")
    return made


def _of_one_curve(text: str) -> Iterator[CurveCodec]:
    chains = parse_sweep(text, "codec", complete=False)
    if len(chains[0].steps) > 1:
        raise ChainError(f"{text!r} is a chain; a curve takes one codec at a time")
    families: dict[tuple[tuple[str, Any], ...], list[Step]] = {}
    for chain in chains:
        (step,) = chain.steps
        codec = step.declared(Codec)
        quality = {codec.quality, *codec.one_of}
        families.setdefault(tuple(s for s in step.settings if s[0] not in quality), []).append(step)
    for settings, steps in families.items():
        values = {key: f"{key}={step.method.parameters[key].kind.spell(v)}" for key, v in settings}
        words = text.split()
        if len(families) > 1:
            words = [values.get(word.partition("=")[0], word) for word in words]
        yield CurveCodec(" ".join(words), tuple(steps))


def sweep_steps(codec: CurveCodec, picture: Picture, targets: Sequence[Target] = ()) -> list[Step]:
    """All steps of a codec of one curve: `dct step=4dn,8dn` has two.

    A codec without its quality setting gets as many as it declares points, evenly spaced in the
    logarithm of the rate between the first and the last of them, as found on the middle of the
    picture. Where these do not reach a target, a metric with its score, points about it are added.
    """
    first, declared = codec.steps[0], codec.steps[0].declared(Codec)
    if {key for key, _ in first.settings} & {declared.quality, *declared.one_of}:
        return list(codec.steps)
    values = _evenly(first, picture)
    for target in targets:
        values |= _about(first, values, target, picture)
    return [first.with_setting(declared.quality, value) for value in values.values()]


#: Values of a setting by their canonical text.
Values = dict[str, Any]


def _evenly(codec: Step, picture: Picture) -> Values:
    """Values of the quality setting, evenly spaced in the logarithm of the rate."""
    declared, middle = codec.declared(Codec), _middle(picture)
    kind = declared.parameters[declared.quality].kind
    points = [kind.parse(text) for text in declared.points.split(",")]
    rates = [
        math.log(compress(middle, codec.with_setting(declared.quality, point)).bpp)
        for point in points
    ]
    quantities = [read_quantity(kind.spell(point)) for point in points]
    numbers = [float(q.number) for q in quantities]
    order = np.argsort(rates)
    logarithmic = min(numbers) > 0
    known = np.log(numbers) if logarithmic else np.array(numbers)
    wanted = np.linspace(min(rates), max(rates), len(points))
    found = np.interp(wanted, np.array(rates)[order], known[order])
    values: Values = {}
    for number in np.exp(found) if logarithmic else found:
        try:
            value = kind.parse(f"{number:.3g}{quantities[0].unit}")
        except ValueError:  # a setting of whole numbers
            value = kind.parse(f"{round(number)}{quantities[0].unit}")
        values.setdefault(kind.spell(value), value)
    return values


def _about(codec: Step, values: Values, target: Target, picture: Picture) -> Values:
    """Values of the quality setting on both sides of a score that the others do not reach."""
    key, metric = codec.declared(Codec).quality, Selection((target.step,))
    first, *_, last = values.values()
    ends = [
        score(picture, compress(picture, codec.with_setting(key, value)).picture, metric)
        for value in (first, last)
    ]
    low, high = sorted(one[str(target.step)] for one in ends)
    if low <= target.value <= high:
        return {}
    better = target.step.declared(Metric).better
    aim = replace(target, sense=">=" if better == "higher" else "<=")
    opened, key = open_step(codec)
    try:
        found, _ = solve_step(picture, opened, key, aim)
    except TargetError:
        return {}
    kind = found.method.parameters[key].kind
    quantity = read_quantity(kind.spell(dict(found.settings)[key]))
    made: Values = {}
    for factor in (0.8, 0.93, 1.0, 1.08, 1.25):
        number = float(quantity.number) * factor
        for form in (f"{number:.4g}", str(round(number))):
            try:
                value = kind.parse(f"{form}{quantity.unit}")
            except ValueError:  # beyond the setting's range, or one of whole numbers
                continue
            made.setdefault(kind.spell(value), value)
            break
    return {text: value for text, value in made.items() if text not in values}


def _middle(picture: Picture) -> Picture:
    """The middle of a large picture: enough to find rates by."""
    top, left = (max(0, side - _SAMPLE) // 2 for side in (picture.height, picture.width))
    part = picture.samples[top : top + _SAMPLE, left : left + _SAMPLE]
    return Picture(np.ascontiguousarray(part), picture.bits, picture.colour)


def point(reference: Picture, step: Step, metrics: Selection, source: Picture) -> Point:
    """One point: `source` coded by `step` and scored against `reference`.

    Raises
    ------
    PictureError
        If no metric suits the pictures.
    """
    coded = compress(source, step)
    scores = Scorer(reference).score(coded.picture, metrics, strict=False)
    scores.check_any()
    return Point(step, coded.bpp, len(coded.data), dict(scores), scores.left_out)


def at_rate(source: Picture, step: Step, bpp: float) -> Compressed | None:
    """The codec of a step at a rate, its quality setting searched again; None where it has none."""
    found = {step.declared(Codec).quality, *step.method.one_of}
    rest = tuple(setting for setting in step.settings if setting[0] not in found)
    try:
        return compress_to_rate(source, replace(step, settings=rest), bpp)
    except TargetError:
        return None
