"""Run a chain of restorations on pixels, the sd of the noise estimated where it is left out."""

from __future__ import annotations

from magnetite.core.arrays import Pixels
from magnetite.core.chain.bind import bind_step
from magnetite.core.chain.step import AUTO, Chain, Step
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.methods.parameters import Files
from magnetite.core.picture import Picture
from magnetite.core.quantities import Quantity, nearby
from magnetite.core.restore.kernels.noise_sd import NoiseSd, estimated


def run(
    picture: Picture, chain: Chain, pixels: Pixels, files: Files | None = None
) -> tuple[Pixels, Chain]:
    """Pixels after all steps, on the scale of a picture; the chain with every sd known."""
    steps = []
    for place, step in enumerate(chain.steps):
        steps.append(_with_sd(step, picture, pixels, picture.step if place == 0 else None))
        if open_keys := [key for key, value in steps[-1].settings if value is AUTO]:
            raise ChainError(
                f"{step}: {open_keys[0]}=auto is tuned with an aim METRIC=best only; "
                "what is estimated from the picture is sd"
            )
        pixels = bind_step(steps[-1], picture.frame, files).call(pixels)
    return pixels, Chain(tuple(steps))


def _with_sd(step: Step, picture: Picture, pixels: Pixels, spacing: float | None) -> Step:
    """The step with the estimated sd of the noise, if it takes one and has none.

    `spacing` is the distance of two digital numbers of the pixels, where that is known.
    """
    key = missing_sd(step)
    if key is None:
        return step
    sd = estimated(pixels, None, spacing)
    if sd > 1:
        raise PictureError(
            f"{picture.origin}: the sd of the noise is estimated as {100 * sd:.4g} % of full "
            "scale, and at most 100 % can be restored: bring the samples to 0..1"
        )
    scale, unit = picture.full_scale, "dn" if picture.bits is not None else "fs"
    value = step.method.parameters[key].kind.parse(str(Quantity(nearby(sd * scale), unit)))
    return step.with_setting(key, value)


def missing_sd(step: Step) -> str | None:
    """The setting for the sd of the noise that a step takes and has no value for."""
    given = dict(step.settings)
    for key, parameter in step.method.parameters.items():
        if isinstance(parameter.kind, NoiseSd) and given.get(key, AUTO) is AUTO:
            choices = step.method.one_of
            if key not in choices or not any(other in given for other in choices if other != key):
                return key
    return None
