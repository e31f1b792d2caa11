"""Impulse noise: a share of the samples is replaced, the rest stays as it was."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.compute.random import fill
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.degrade.certify.noise import UNIFORM, binomial, fit_finding, moments
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Share

Per = Annotated[Literal["pixel", "channel"], "all channels of a pixel at once, or each separately"]


def _survey_salt_pepper(before: Pixels, *, density: float, white: float, per: Per) -> ImpulseSurvey:
    return ImpulseSurvey(density, white, per)


@dataclass(frozen=True)
class ImpulseSurvey:
    """Counts hits among samples that were at neither end, where hits can be recognised."""

    density: float
    white: float
    per: Per

    def of(self, part: Change) -> Float64:
        """Samples that show a hit, hits, and white ones among these."""
        visible = (part.before > 0) & (part.before < 1)
        whitened = (part.drawn == 1) & visible
        hit = whitened | ((part.drawn == 0) & visible)
        if self.per == "pixel" and hit.ndim == 3:
            visible, hit, whitened = (np.any(x, axis=-1) for x in (visible, hit, whitened))
        return np.array([visible.sum(), hit.sum(), whitened.sum()], np.float64)

    #: Counts need no loop of their own.
    in_one_pass = None

    def findings(self, sums: Float64) -> list[Finding]:
        """Shares of the hits."""
        count, hits, whitened = (int(n) for n in sums)
        findings = [binomial("density", self.density, hits, count)]
        if hits:
            findings.append(binomial("white share", self.white, whitened, hits))
        return findings


@degradation(
    "salt-pepper",
    summary="Replace a random share of the samples by black or white.",
    colour=ColourPolicy.JOINT,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 5.2",
    survey=_survey_salt_pepper,
    reach=0,
    draws_by="shape",
)
def salt_pepper(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    density: Annotated[float, Share(), "expected share of replaced samples"],
    white: Annotated[
        float, Share(), "share of these that turns white; the others turn black"
    ] = 0.5,
    per: Per = "pixel",
) -> Pixels:
    """Replace samples by 1 with probability `density white`, by 0 with `density (1 - white)`."""

    def hit(child: np.random.Generator, out: Samples) -> None:
        lot = child.random(len(out), dtype=np.float32)
        out[lot < np.float32(density)] = 0
        out[lot < np.float32(density * white)] = 1

    return _struck(pixels, rng, per, hit)


def _certify_impulses(change: Change, *, density: float, per: str) -> list[Finding]:
    hit = change.drawn != change.before
    values = change.drawn[hit]
    tried = hit.any(axis=-1) if per == "pixel" and hit.ndim == 3 else hit
    findings = [binomial("density", density, int(tried.sum()), tried.size)]
    if values.size:
        spread = (values.reshape(1, -1) - 0.5) * math.sqrt(12)
        distance = moments(spread, UNIFORM.cumulative).distance
        findings.append(fit_finding("uniform", distance, math.sqrt(values.size)))
    return findings


@degradation(
    "impulse-noise",
    summary="Replace a random share of the samples by random values.",
    colour=ColourPolicy.JOINT,
    source=(
        "Garnett, Huegerich, Chui and He, IEEE Trans. Image Processing 14(11), 2005, "
        "doi:10.1109/TIP.2005.857261"
    ),
    certify=_certify_impulses,
    reach=0,
    draws_by="shape",
)
def impulse_noise(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    density: Annotated[float, Share(), "expected share of replaced samples"],
    per: Per = "channel",
) -> Pixels:
    """Replace samples, with probability `density`, by values even on 0 to 1.

    A whole pixel gets a value for each of its channels.
    """

    def hit(child: np.random.Generator, out: Samples) -> None:
        struck = child.random(len(out), dtype=np.float32) < np.float32(density)
        out[struck] = child.random((int(struck.sum()), *out.shape[1:]), dtype=np.float32)

    return _struck(pixels, rng, per, hit)


def _struck(
    pixels: Pixels, rng: np.random.Generator, per: Per, hit: Callable[..., object]
) -> Pixels:
    """A copy of the samples on which `hit(generator, out)` works, a pixel or a sample a row."""
    out = np.array(pixels, order="C")
    rows = out.reshape(-1) if per == "channel" else out.reshape(out.shape[0] * out.shape[1], -1)
    fill(rng, [rows], hit)
    return out
