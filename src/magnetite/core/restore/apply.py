"""Run a chain of restorations on a picture."""

from __future__ import annotations

from dataclasses import dataclass

from magnetite.core.chain import AUTO, Chain, Step, parse_chain
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.parameters import Quantity, nearby
from magnetite.core.picture import Clipped, Picture, Pixels, Samples, as_picture
from magnetite.core.restore.noise_sd import NoiseSd, estimated


@dataclass(frozen=True)
class Restored:
    """A restored picture, the canonical chain that made it, and what clipped."""

    picture: Picture
    #: With the sd of the noise where that was estimated.
    chain: str
    clipped: Clipped
    #: Remarks for the user.
    notes: tuple[str, ...] = ()


def restore(source: Picture | Samples, chain: str) -> Restored:
    """Restore a picture by a chain of restorations, such as `median size=3`.

    Samples stay float between the steps and are rounded and clipped once, at the end. Where a
    method takes the sd of the noise and is given none, or `auto`, it is estimated from what the
    steps before have left.

    Raises
    ------
    ChainError
        If the chain cannot be read or used on this picture.
    """
    picture = as_picture(source)
    return restore_chain(picture, parse_chain(chain, "restoration", auto=True))


def restore_chain(picture: Picture, chain: Chain) -> Restored:
    """Restore a picture by a chain that is read already."""
    pixels, known = run(picture, chain, picture.pixels())
    pairs = zip(chain.steps, known.steps, strict=True)
    notes = [f"sd of the noise estimated: {now}" for step, now in pairs if now is not step]
    restored, clipped = picture.with_pixels(pixels)
    return Restored(restored, str(known), clipped, tuple(notes))


def run(picture: Picture, chain: Chain, pixels: Pixels) -> tuple[Pixels, Chain]:
    """Pixels after all steps, on the scale of a picture; the chain with every sd known."""
    steps = []
    for place, step in enumerate(chain.steps):
        steps.append(_with_sd(step, picture, pixels, picture.step if place == 0 else None))
        if open_keys := [key for key, value in steps[-1].settings if value is AUTO]:
            raise ChainError(
                f"{step}: {open_keys[0]}=auto is tuned with an aim METRIC=best only; "
                "what is estimated from the picture is sd"
            )
        pixels = steps[-1].method.function(pixels, **steps[-1].arguments(picture))
    return pixels, Chain(tuple(steps))


def _with_sd(step: Step, picture: Picture, pixels: Pixels, spacing: float | None) -> Step:
    """The step with the estimated sd of the noise, if it takes one and has none.

    `spacing` is the distance of two digital numbers of the pixels, where that is known.
    """
    given = dict(step.settings)
    for key, parameter in step.method.parameters.items():
        if not isinstance(parameter.kind, NoiseSd) or given.get(key, AUTO) is not AUTO:
            continue
        others = [other for other in step.method.one_of if other != key]
        if any(other in given for other in others):
            continue
        sd = estimated(pixels, None, spacing)
        if sd > 1:
            raise PictureError(
                f"{picture.origin}: the sd of the noise is estimated as {100 * sd:.4g} % of full "
                "scale, and at most 100 % can be restored: bring the samples to 0..1"
            )
        scale, unit = picture.full_scale, "dn" if picture.bits is not None else "fs"
        return step.with_setting(key, parameter.kind.parse(str(Quantity(nearby(sd * scale), unit))))
    return step
