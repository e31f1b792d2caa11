"""Figures of every method on fixed pictures, by its version: `python tests/figures.py`.

They are written to `figures.json`. A method whose figures change gets a new version first.
"""

from __future__ import annotations

import json
import math
import re
from functools import cache
from pathlib import Path

import numpy as np

import magnetite
from magnetite.core.methods.catalogue import every
from magnetite.core.methods.declarations import Codec, ColourPolicy, Method
from magnetite.core.methods.parameters import Choice, FileName, Kind
from magnetite.core.picture import Picture, as_picture

KEPT = Path(__file__).with_suffix(".json")
#: Settings with which the choices of these methods differ, as they do not in their examples.
BASES = {
    "crop": "width=50 height=40",
    "downsample": "factor=2",
    "middle": "width=50 height=40",
    "quantize": "bits=3",
    "sensor-noise": "full-well=900e",
    "upsample": "factor=2",
    "white-balance": "red=1.5 blue=2",
}


@cache
def pictures() -> list[Picture]:
    """A gray and a colour picture with edges, waves and grain."""
    y, x = np.mgrid[:192, :200]
    rng = np.random.default_rng(11)
    plane = (
        90 + 50 * np.sin(x / 7) * np.cos(y / 23) + 60 * (x + y > 190) + rng.normal(0, 4, y.shape)
    )
    colour = np.stack([plane, 0.8 * plane + 20, 255 - plane], axis=-1)
    return [as_picture(np.rint(one.clip(0, 255)).astype(np.uint8)) for one in (plane, colour)]


@cache
def worn(picture: Picture) -> Picture:
    """The picture with noise and blur."""
    chain = "gaussian-noise sd=9dn + box-blur size=3"
    return magnetite.degrade(picture, chain, seed=5).picture


def names_a_file(method: Method) -> bool:
    return any(p.required and isinstance(p.kind, FileName) for p in method.parameters.values())


def followed() -> list[Method]:
    """Methods whose figures are followed: not those of other libraries, nor those of files."""
    return [
        method for method in every()
        if not (isinstance(method, Codec) and method.yardstick) and not names_a_file(method)
        and method.function.__module__.startswith("magnetite.core")
    ]  # fmt: skip


def steps_of(method: Method) -> list[str]:
    """The method's example, and that with each choice and another value of every other setting."""
    example = BASES.get(method.name, method.example.partition(" ")[2])
    given = dict(word.split("=") for word in example.split())
    found = [given]
    for key, parameter in method.parameters.items():
        kept = {
            k: v for k, v in given.items() if key not in method.one_of or k not in method.one_of
        }
        usual = kept.get(key, parameter.default_text)
        found += [{**kept, key: v} for v in values_of(parameter.kind, usual) if v != usual]
    texts = [" ".join([method.name, *(f"{k}={v}" for k, v in one.items())]) for one in found]
    return list(dict.fromkeys(texts))


def values_of(kind: Kind, usual: str | None) -> list[str]:
    """Each word of a choice; else an example, or a larger or smaller value than the usual one."""
    if isinstance(kind, Choice):
        return list(kind.words)
    number = re.fullmatch(r"([\d.]+)(\D*)", usual or "")
    tried = [] if number is None else [f"{by * float(number[1]):g}{number[2]}" for by in (3, 0.5)]
    return [text for text in (kind.example(), *tried) if text != usual and accepts(kind, text)][:1]


def accepts(kind: Kind, text: str) -> bool:
    try:
        kind.parse(text)
    except ValueError:
        return False
    return not isinstance(kind, FileName)


def figures_of(method: Method, step: str) -> list[float]:
    """Figures that change where the method's results do: of both pictures, or of a part of one."""
    if step == steps_of(method)[0]:
        return [value for picture in pictures() for value in _figures(method, step, picture)]
    of_planes = method.colour is ColourPolicy.EACH or "pattern=" in step
    parts = pictures()[:: 1 if of_planes else -1]
    if method.kind not in ("metric", "gauge"):
        parts = [as_picture(np.ascontiguousarray(one.samples[:96, :104])) for one in parts]
    tried = (_figures(method, step, part) for part in parts)
    return next((found for found in tried if found != [-1.0]), [-1.0])


def _figures(method: Method, step: str, picture: Picture) -> list[float]:
    try:
        if method.kind == "metric":
            return list(magnetite.score(picture, worn(picture), step).values())
        if method.kind == "gauge":
            return list(magnetite.gauge(picture, step).values())
        if method.kind == "codec":
            coded = magnetite.compress(picture, step)
            return [float(len(coded.data)), *summed(coded.picture)]
        made = {
            "degradation": lambda: magnetite.degrade(picture, step, seed=3, overflow="keep"),
            "restoration": lambda: magnetite.restore(picture, step),
            "conversion": lambda: magnetite.convert(picture, step),
        }[method.kind]()
        return summed(made if isinstance(made, Picture) else made.picture)
    except magnetite.core.errors.InputError:
        return [-1.0]


def summed(picture: Picture) -> list[float]:
    """Mean, sd and a sum weighted by position."""
    samples = picture.samples.astype(np.float64)
    weights = np.sin(np.arange(samples.size) * 0.7)
    return [
        float(samples.mean()), float(samples.std()),
        float(weights @ samples.reshape(-1)) / math.sqrt(samples.size),
    ]  # fmt: skip


def main() -> None:
    kept = {
        f"{method.kind} {method.name}": {
            "version": method.version,
            "figures": {step: figures_of(method, step) for step in steps_of(method)},
        }
        for method in followed()
    }
    text = json.dumps(kept, indent=1)
    # A line for each step.
    KEPT.write_text(re.sub(r"\n {4,}|\n {3}(?=\])", " ", text) + "\n")


if __name__ == "__main__":
    main()
