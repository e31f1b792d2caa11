"""Run a chain of degradations on a picture and certify it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from magnetite.core.chain import Step, parse_chain
from magnetite.core.codecs.stream import through
from magnetite.core.degrade.certificate import (
    Certificate,
    Change,
    Finding,
    StepRecord,
    rms,
    rms_change,
)
from magnetite.core.picture import Picture, Pixels, Samples, as_picture
from magnetite.core.randomness import step_generator


@dataclass(frozen=True)
class Degraded:
    """A degraded picture and the certificate of what was done to it."""

    picture: Picture
    certificate: Certificate


def degrade(source: Picture | Samples, chain: str, *, seed: int = 0) -> Degraded:
    """Degrade a picture by a chain of degradations and codecs.

    Between steps the samples stay float and may leave 0..1; they are rounded and clipped
    once, at the end.

    Parameters
    ----------
    source : Picture or array
        See `as_picture` for arrays.
    chain : str
        Chain notation, such as `gaussian-blur sigma=1.6px + gaussian-noise sd=12dn`.
    seed : int
        Same seed and same picture, same result.

    Raises
    ------
    ChainError
        If the chain cannot be read or used on this picture.
    """
    reference = as_picture(source)
    parsed = parse_chain(chain, "degradation", "codec")
    digest = reference.digest()
    before = original = reference.pixels()
    records = []
    for place, step in enumerate(parsed.steps):
        settings = step.arguments(reference)
        if step.method.kind == "codec":
            after, size = through(step, reference, before)
            rate = 8 * size / (reference.height * reference.width)
            extra = [Finding("rate", "bpp", None, rate, rate)]
        else:
            after = step.method.function(before, step_generator(seed, digest, place), **settings)
            extra = []
        findings = extra + _certify(step, settings, reference, before, after)
        records.append(StepRecord(str(step), tuple(f.in_units_of(reference) for f in findings)))
        before = after
    stored, clipped = reference.with_pixels(before)
    certificate = Certificate(
        reference=reference.origin,
        reference_sha256=digest.hex(),
        picture=reference.describe(),
        chain=str(parsed),
        seed=seed,
        steps=tuple(records),
        rms_difference=rms(stored.pixels() - original) * reference.full_scale,
        amplitude_unit=reference.amplitude_unit,
        clipped=clipped,
        overflow="keep" if reference.bits is None else "clip",
    )
    return Degraded(stored, certificate)


def _certify(
    step: Step, settings: dict[str, Any], reference: Picture, before: Pixels, after: Pixels
) -> list[Finding]:
    stored = reference.with_pixels(after)[0].pixels()
    change = Change(before, after, stored, reference.digital_full_scale)
    certify = step.method.traits.get("certify")
    if certify is None:
        return [rms_change(change)]
    defaults = {p.name: p.default for p in step.method.parameters.values()}
    findings: list[Finding] = certify(change, **(defaults | settings))
    return findings
