"""Run a chain of restorations on pixels, the sd of the noise estimated where it is left out."""

from __future__ import annotations

from typing import NamedTuple

from magnetite.core.arrays import Pixels
from magnetite.core.chain.bind import bind_step
from magnetite.core.chain.step import AUTO, Chain, Step
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.methods.context import Files
from magnetite.core.picture import Picture
from magnetite.core.quantities import Quantity, nearby
from magnetite.core.restore.kernels.noise_sd import estimate


class Ran(NamedTuple):
    """Pixels after a chain, the chain with every sd known, and remarks on those estimated."""

    pixels: Pixels
    chain: Chain
    notes: list[str]


def run(picture: Picture, chain: Chain, pixels: Pixels, files: Files | None = None) -> Ran:
    """Carry out all steps, on the scale of a picture; `ChainError` where a setting is open."""
    steps: list[Step] = []
    notes: list[str] = []
    for number, step in enumerate(chain.steps):
        key, spacing = missing_sd(step), picture.frame.step if number == 0 else None
        known, note = _with_sd(step, key, picture, pixels, spacing) if key else (step, "")
        notes += [note] if note else []
        steps.append(known)
        if open_keys := [key for key, value in known.settings if value is AUTO]:
            raise ChainError(
                f"{step}: {open_keys[0]}=auto is tuned with an aim METRIC=best only; "
                "only sd is estimated from the picture"
            )
        pixels = bind_step(known, picture.frame, files).call(pixels)
    return Ran(pixels, Chain(tuple(steps)), notes)


def _with_sd(
    step: Step, key: str, picture: Picture, pixels: Pixels, spacing: float | None
) -> tuple[Step, str]:
    """The step with the estimated sd of the noise, and a remark on its certainty.

    `spacing` is the distance of two digital numbers of the pixels, where that is known.
    """
    noise = estimate(pixels, spacing)
    if noise.sd > 1:
        raise PictureError(
            f"{picture.origin}: the sd of the noise is estimated as {100 * noise.sd:.4g} % of full "
            "scale, and at most 100 % can be restored: bring the samples to 0..1"
        )
    scale, unit = picture.full_scale, "dn" if picture.bits is not None else "fs"
    value = step.method.parameters[key].kind.parse(str(Quantity(nearby(noise.sd * scale), unit)))
    known = step.with_setting(key, value)
    hint = "" if noise.distinct else f", write {key}= where it is known"
    return known, f"sd of the noise estimated: {known}; {noise.words(scale, unit)}{hint}"


def missing_sd(step: Step) -> str | None:
    """The setting for the sd of the noise that a step takes and has no value for."""
    given = dict(step.settings)
    for key, parameter in step.method.parameters.items():
        if parameter.kind.estimated and given.get(key, AUTO) is AUTO:
            choices = step.method.one_of
            if key not in choices or not any(other in given for other in choices if other != key):
                return key
    return None
