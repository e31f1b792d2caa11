"""Points of rate-distortion curves: a codec's settings, coded, decoded and scored."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.chain.notation import parse_step, parse_sweep
from magnetite.core.errors import ChainError, TargetError
from magnetite.core.methods.declarations import Codec, Metric
from magnetite.core.operations.coding import Compressed
from magnetite.core.operations.compress import compress
from magnetite.core.operations.rate import compress_to_rate
from magnetite.core.operations.score import score
from magnetite.core.picture import Picture
from magnetite.core.quantities import read_quantity

#: Rates are looked for on a part of at most this height and width, in px.
_SAMPLE = 512


@dataclass(frozen=True)
class Point:
    """One coded picture: the codec's step, the rate of its stream and its scores."""

    step: str
    bpp: float
    bytes: int
    scores: dict[str, float]


def sweep_steps(
    text: str, picture: Picture, targets: Sequence[tuple[str, float]] = ()
) -> list[str]:
    """All steps of a codec's sweep in canonical spelling: `dct step=4dn,8dn` gives two.

    A codec without its quality setting gets as many as it declares points, evenly spaced in the
    logarithm of the rate between the first and the last of them, as found on the middle of the
    picture. Where these do not reach a target, a metric with its score, points about it are added.

    Raises
    ------
    ChainError
        If the text cannot be read or is a chain of several steps.
    """
    first = parse_sweep(text, "codec", complete=False)[0].steps[0]
    codec = first.declared(Codec)
    given = dict(first.settings).keys()
    if codec.quality not in given and not given & set(codec.one_of):
        values = _evenly(text, codec.quality, codec.points.split(","), picture)
        for metric, score_ in targets:
            values += _about(text, codec.quality, values, metric, score_, picture)
        text = f"{text} {codec.quality}={','.join(values)}"
    chains = parse_sweep(text, "codec")
    if len(chains[0].steps) > 1:
        raise ChainError(f"{text!r} is a chain; a curve takes one codec at a time")
    return [str(chain) for chain in chains]


def _evenly(text: str, key: str, points: list[str], picture: Picture) -> list[str]:
    """Values of the quality setting, evenly spaced in the logarithm of the rate."""
    middle = _middle(picture)
    setting = parse_sweep(f"{text} {key}={points[0]}", "codec")[0].steps[0]
    kind = setting.method.parameters[key].kind
    rates = [math.log(compress(middle, f"{_first(text)} {key}={p}").bpp) for p in points]
    quantities = [read_quantity(p) for p in points]
    numbers = [float(q.number) for q in quantities]
    order = np.argsort(rates)
    logarithmic = min(numbers) > 0
    known = np.log(numbers) if logarithmic else np.array(numbers)
    wanted = np.linspace(min(rates), max(rates), len(points))
    found = np.interp(wanted, np.array(rates)[order], known[order])
    values = []
    for number in np.exp(found) if logarithmic else found:
        try:
            value = kind.parse(f"{number:.3g}{quantities[0].unit}")
        except ValueError:  # a setting of whole numbers
            value = kind.parse(f"{round(number)}{quantities[0].unit}")
        values.append(kind.spell(value))
    return list(dict.fromkeys(values))


def _about(
    text: str, key: str, values: list[str], metric: str, target: float, picture: Picture
) -> list[str]:
    """Values of the quality setting on both sides of a score that the others do not reach."""
    ends = [
        score(picture, compress(picture, f"{_first(text)} {key}={value}").picture, metric)[metric]
        for value in (values[0], values[-1])
    ]
    if min(ends) <= target <= max(ends):
        return []
    try:
        sense = ">=" if parse_step(metric, "metric").declared(Metric).better == "higher" else "<="
        found = compress(picture, _first(text), aim=f"{metric}{sense}{target:.9g}")
    except TargetError:
        return []
    step = parse_step(found.step, "codec")
    kind = step.method.parameters[key].kind
    quantity = read_quantity(kind.spell(dict(step.settings)[key]))
    made = []
    for factor in (0.8, 0.93, 1.0, 1.08, 1.25):
        number = float(quantity.number) * factor
        for form in (f"{number:.4g}", str(round(number))):
            try:
                made.append(kind.spell(kind.parse(f"{form}{quantity.unit}")))
                break
            except ValueError:  # beyond the setting's range, or one of whole numbers
                continue
    return [value for value in dict.fromkeys(made) if value not in values]


def _first(text: str) -> str:
    """The codec with the first value of every setting that it sweeps over."""
    return str(parse_sweep(text, "codec", complete=False)[0])


def _middle(picture: Picture) -> Picture:
    """The middle of a large picture: enough to find rates by."""
    top, left = (max(0, side - _SAMPLE) // 2 for side in (picture.height, picture.width))
    part = picture.samples[top : top + _SAMPLE, left : left + _SAMPLE]
    return Picture(np.ascontiguousarray(part), picture.bits, picture.colour)


def point(reference: Picture, step: str, metrics: str, source: Picture) -> Point:
    """One point: `source` coded by `step` and scored against `reference`."""
    coded = compress(source, step)
    scores = score(reference, coded.picture, metrics)
    return Point(coded.step, coded.bpp, len(coded.data), dict(scores))


def at_rate(source: Picture, step: str, bpp: float) -> Compressed | None:
    """The codec of a step at a rate, its quality setting searched again; None where it has none."""
    parsed = parse_step(step, "codec")
    found = {parsed.declared(Codec).quality, *parsed.method.one_of}
    rest = tuple(setting for setting in parsed.settings if setting[0] not in found)
    try:
        return compress_to_rate(source, str(replace(parsed, settings=rest)), bpp)
    except TargetError:
        return None
