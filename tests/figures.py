"""Figures of every method on fixed pictures, by its version: `python tests/figures.py`.

They are written to `figures.json`. A method whose figures change gets a new version first.
"""

from __future__ import annotations

import json
import math
from functools import cache
from pathlib import Path

import numpy as np

import magnetite
from magnetite.core.methods.catalogue import every
from magnetite.core.methods.declarations import Codec, Method
from magnetite.core.methods.parameters import FileName
from magnetite.core.picture import Picture, as_picture

KEPT = Path(__file__).with_suffix(".json")


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


def names_a_file(method: Method) -> bool:
    return any(p.required and isinstance(p.kind, FileName) for p in method.parameters.values())


def followed() -> list[Method]:
    """Methods whose figures are followed: not those of other libraries, nor those of files."""
    return [
        method for method in every()
        if not (isinstance(method, Codec) and method.yardstick) and not names_a_file(method)
        and method.function.__module__.startswith("magnetite.core")
    ]  # fmt: skip


def figures_of(method: Method) -> list[float]:
    """Figures that change where the method's results do."""
    found: list[float] = []
    for picture in pictures():
        try:
            found += _figures(method, picture)
        except magnetite.core.errors.InputError:
            found += [-1.0]
    return found


def _figures(method: Method, picture: Picture) -> list[float]:
    step = method.example
    if method.kind == "metric":
        test = magnetite.degrade(picture, "gaussian-noise sd=9dn + box-blur size=3", seed=5).picture
        return [magnetite.score(picture, test, step)[str(step)]]
    if method.kind == "gauge":
        return [magnetite.gauge(picture, step)[str(step)]]
    if method.kind == "codec":
        coded = magnetite.compress(picture, step)
        return [float(len(coded.data)), *summed(coded.picture)]
    if method.kind == "degradation":
        return summed(magnetite.degrade(picture, step, seed=3, overflow="keep").picture)
    if method.kind == "restoration":
        return summed(magnetite.restore(picture, step).picture)
    return summed(magnetite.convert(picture, step))


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
        f"{method.kind} {method.name}": {"version": method.version, "figures": figures_of(method)}
        for method in followed()
    }
    KEPT.write_text(json.dumps(kept, indent=1) + "\n")


if __name__ == "__main__":
    main()
