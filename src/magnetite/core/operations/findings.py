"""Findings on the steps of a degradation, gathered while the picture passes in bands."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import reduce

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.chain.bind import Bound
from magnetite.core.compute.bands import bands_of
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.compute.threads import spread
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.degrade.certify.survey import ChangeSurvey, Survey
from magnetite.core.degrade.certify.through import NoiseSurvey
from magnetite.core.methods.declarations import Degradation
from magnetite.core.operations.certificate import (
    StepRecord,
    light_advice,
    storage_advice,
    storage_findings,
)
from magnetite.core.picture import Clipped, Picture
from magnetite.core.picture.frame import Light
from magnetite.core.picture.storing import beyond


@dataclass(frozen=True)
class Storage:
    """How the result of a degradation is stored: at the reference's depth, or in float."""

    #: Some rows of the reference.
    like: Picture
    #: Whether samples outside 0..1 are kept.
    keeps: bool

    @classmethod
    def of(cls, like: Picture, overflow: str | None) -> Storage:
        """By the rule for samples outside 0..1; left out, float samples are kept."""
        return cls(like, like.bits is None if overflow is None else overflow == "keep")

    @property
    def bits(self) -> int | None:
        """Bit depth of the result."""
        return None if self.keeps else self.like.bits

    def stored(self, pixels: Pixels) -> tuple[Picture, Clipped]:
        """Pixels as the result stores them, and the samples outside 0..1."""
        like = self._like(pixels)
        if like.bits is None and not self.keeps:
            return like.with_pixels(pixels.clip(0, 1))[0], beyond(pixels)
        if self.keeps and like.bits is not None:
            blank = np.zeros_like(pixels[:1, :1])
            return Picture(blank, None, like.colour, like.origin).with_pixels(pixels)
        return like.with_pixels(pixels)

    def _like(self, pixels: Pixels) -> Picture:
        """The reference, or a picture of its depth where a step changed the colour."""
        like = self.like
        if pixels.ndim == like.samples.ndim:
            return like
        blank = np.zeros((1, 1, *pixels.shape[2:]), like.samples.dtype)
        return Picture(blank, like.bits, "gray" if pixels.ndim == 2 else "rgb", like.origin)


@dataclass
class StepFindings:
    """Findings on one step: sums over bands, or those of the only band."""

    step: Bound
    storage: Storage
    #: Relation of the samples before the step to light.
    light: Light
    _survey: Survey | None = field(default=None, init=False)
    _sums: Float64 | None = field(default=None, init=False)
    _whole: Sequence[Finding] = field(default=(), init=False)
    _clipped: Clipped = field(default_factory=lambda: Clipped(0, 0, 0), init=False)
    _rate: float | None = field(default=None, init=False)
    #: Noise after the step, where it is followed through a mosaic's interpolation.
    noise: NoiseSurvey | None = field(default=None, init=False)

    def add(self, before: Pixels, after: Pixels, rate: float | None) -> None:
        """Take the rows of a band before and after the step, and the rate of a codec."""
        self._rate = rate
        if self._survey is None and before.shape == after.shape:
            self._survey = survey_of(self.step, before)
        if self._survey is None:
            self._whole, clipped = self._certified(before, after)
        else:
            sums, clipped = self._surveyed(self._survey, before, after)
            self._sums = sums if self._sums is None else self._sums + sums
        self._clipped = self._clipped.and_of(clipped)

    def record(self) -> StepRecord:
        """All findings, with those of storing, in the picture's units."""
        found = self._whole
        if self._survey is not None and self._sums is not None:
            found = self._survey.findings(self._sums)
        rate = [] if self._rate is None else [Finding("rate", "bpp", None, self._rate, self._rate)]
        noise = [] if self.noise is None else self.noise.findings()
        kept = self.storage.keeps
        findings = [*rate, *found, *noise, *storage_findings(self._clipped, kept=kept)]
        advice = storage_advice(findings, self._clipped, self.storage.bits)
        method = self.step.method
        if isinstance(method, Degradation) and method.linear:
            advice = (*light_advice(self.light), *advice)
        scaled = tuple(finding.in_units_of(self.storage.like) for finding in findings)
        return StepRecord(str(self.step.step), scaled, advice, method.version, self.step.draws)

    def _surveyed(self, survey: Survey, before: Pixels, after: Pixels) -> tuple[Float64, Clipped]:
        """Sums over parts of a band, so that nothing of its size is held in between."""
        large = after.size >= WORTH_COMPILING and before.dtype == after.dtype == np.float32
        loop = survey.in_one_pass if large and self.storage.bits is not None else None

        def work(part: slice) -> tuple[Float64, Clipped]:
            if loop is None:
                change, clipped = self._change(before[part], after[part], part.start)
                return survey.of(change), clipped
            sums = loop(before[part], after[part], np.float32(self.storage.like.full_scale))
            return sums[2:], Clipped(int(sums[0]), int(sums[1]), after[part].size)

        sums, clipped = zip(*spread(work, bands_of(after)), strict=True)
        return np.sum(sums, axis=0), reduce(Clipped.and_of, clipped)

    def _certified(self, before: Pixels, after: Pixels) -> tuple[Sequence[Finding], Clipped]:
        """Findings of a step that needs the whole picture for them."""
        change, clipped = self._change(before, after)
        method = self.step.method
        certify = method.certify if isinstance(method, Degradation) else None
        if certify is None:
            return [Finding("rms change", "fs", None, None)], clipped
        return certify(change, **self.step.settings), clipped

    def _change(self, before: Pixels, after: Pixels, row: int = 0) -> tuple[Change, Clipped]:
        picture, clipped = self.storage.stored(after)
        return Change(before, after, picture.pixels(), clipped, row), clipped


def surveys(step: Bound) -> bool:
    """Whether the findings on a step are sums over parts of the picture."""
    return survey_of(step, np.zeros((1, 1), np.float32)) is not None


def survey_of(step: Bound, before: Pixels) -> Survey | None:
    """Survey of a step band by band; None where its certificate needs the whole picture."""
    method = step.method
    if not isinstance(method, Degradation) or (method.certify is None and method.survey is None):
        return ChangeSurvey()
    if method.survey is None:
        return None
    survey: Survey | None = method.survey(before, **step.settings)
    return survey
