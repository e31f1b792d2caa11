"""Run a chain of restorations on a picture."""

from __future__ import annotations

from dataclasses import dataclass

from magnetite.core.chain import parse_chain
from magnetite.core.picture import Clipped, Picture, Samples, as_picture


@dataclass(frozen=True)
class Restored:
    """A restored picture, the canonical chain that made it, and what clipped."""

    picture: Picture
    chain: str
    clipped: Clipped


def restore(source: Picture | Samples, chain: str) -> Restored:
    """Restore a picture by a chain of restorations, such as `median size=3`.

    Samples stay float between the steps and are rounded and clipped once, at the end.

    Raises
    ------
    ChainError
        If the chain cannot be read or used on this picture.
    """
    picture = as_picture(source)
    parsed = parse_chain(chain, "restoration")
    pixels = picture.pixels()
    for step in parsed.steps:
        pixels = step.method.function(pixels, **step.arguments(picture))
    restored, clipped = picture.with_pixels(pixels)
    return Restored(restored, str(parsed), clipped)
