"""Run a chain of degradations on a picture and certify it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import reduce
from typing import Any, Literal

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.chain.bind import Bound, ReadOnce, bind
from magnetite.core.chain.notation import parse_chain
from magnetite.core.chain.step import Chain
from magnetite.core.compute.bands import bands_of
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.compute.random import step_generator
from magnetite.core.compute.threads import spread
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.degrade.certify.survey import ChangeSurvey, Survey
from magnetite.core.errors import PictureError
from magnetite.core.methods.declarations import Degradation
from magnetite.core.methods.parameters import Files, NoFiles
from magnetite.core.metrics.kernels.errors import error_sums
from magnetite.core.operations.aim import Aim, Target, solve_chain
from magnetite.core.operations.certificate import (
    Certificate,
    FindingRow,
    StepRecord,
    storage_advice,
    storage_findings,
)
from magnetite.core.operations.coding import through
from magnetite.core.picture import Clipped, Picture, as_picture
from magnetite.core.picture.matching import Framed
from magnetite.core.picture.storing import beyond
from magnetite.core.rows import Tabular

#: Treatment of samples outside 0..1: clipped, kept in a float picture, or refused.
Overflow = Literal["clip", "keep", "fail"]


@dataclass(frozen=True, repr=False)
class Degraded(Tabular):
    """A degraded picture and its certificate."""

    picture: Picture
    certificate: Certificate

    def rows(self) -> list[FindingRow]:
        """A row for each finding of the certificate."""
        return self.certificate.rows()

    def frame(self) -> Any:
        """The rows as a pandas data frame."""
        return self.certificate.frame()


def degrade(
    source: Picture | Samples,
    chain: str,
    *,
    seed: int = 0,
    overflow: Overflow | None = None,
    aim: str | None = None,
    files: Files | None = None,
) -> Degraded:
    """Degrade a picture by a chain of degradations and codecs.

    Between steps the samples stay float and may leave 0..1; digital numbers are rounded and
    clipped once, at the end.

    Parameters
    ----------
    source : Picture or array
        See `as_picture` for arrays.
    chain : str
        Chain notation, such as `gaussian-blur sigma=1.6px + gaussian-noise sd=12dn`.
    seed : int
        Same seed and same picture, same result.
    overflow : "clip", "keep" or "fail", optional
        Treatment of samples outside 0..1 at the end: clipped and counted; kept, the result
        then being a float picture; or refused. Left out, digital numbers are clipped, and float
        samples kept.
    aim : str, optional
        `METRIC=VALUE`: the chain's one setting written `auto` is solved for so that the stored
        picture has that figure, with the same random numbers at every try.
    files : Files, optional
        Reads files that settings name, each once.

    Raises
    ------
    ChainError
        If the chain or the aim cannot be read or used on this picture.
    PictureError
        If the picture does not suit a step, or samples leave 0..1 and `overflow` is "fail".
    TargetError
        If no setting reaches the aim.
    """
    reference = as_picture(source)
    parsed = parse_chain(chain, "degradation", "codec", auto=aim is not None)
    run = Run(reference, reference.digest(), seed, overflow, ReadOnce(files))
    reached = None
    if aim is not None:
        target = Target.parse(aim)
        parsed, reached = solve_chain(parsed, target, reference, lambda c: run.picture(c)[0])
    records: list[StepRecord] = []
    stored, clipped = run.picture(parsed, lambda *work: records.append(run.record(*work)))
    same_size = stored.samples.shape == reference.samples.shape
    certificate = run.certificate(
        reference, parsed, records, clipped,
        _rms_difference(reference, stored) if same_size else None, reached,
    )  # fmt: skip
    return Degraded(stored, certificate)


def _rms_difference(one: Picture, other: Picture) -> float:
    """In the unit of the first."""
    if one.bits == other.bits:
        return error_sums(one.samples, other.samples).rms
    return error_sums(one.pixels(), other.pixels()).rms * one.full_scale


def degrade_chain(
    reference: Picture, chain: Chain, seed: int, files: Files | None = None
) -> Picture:
    """The picture that `degrade` gives, without its certificate."""
    return Run(reference, reference.digest(), seed, None, files or NoFiles()).picture(chain)[0]


#: Callback for each step: samples before and after, and its rate.
Observer = Callable[[Bound, Pixels, Pixels, float | None], object]


@dataclass(frozen=True)
class Run:
    """All but the chain of a degradation."""

    reference: Picture
    digest: bytes
    seed: int
    overflow: Overflow | None
    files: Files

    @property
    def keeps(self) -> bool:
        """Whether samples outside 0..1 are kept."""
        if self.overflow is None:
            return self.reference.bits is None
        return self.overflow == "keep"

    def picture(self, chain: Chain, observe: Observer | None = None) -> tuple[Picture, Clipped]:
        """The stored picture of a chain, and the samples clipped."""
        before = self.reference.pixels()
        for position, step in enumerate(bind(chain, self.reference.frame, self.files)):
            after, rate = self._step(position, step, before)
            if observe is not None:
                observe(step, before, after, rate)
            before = after
        return self.stored(before)

    def _step(self, position: int, step: Bound, pixels: Pixels) -> tuple[Pixels, float | None]:
        if step.method.kind == "codec":
            decoded, size = through(step, pixels)
            return decoded, step.frame.bpp(size)
        drawn = [step_generator(self.seed, self.digest, position)] if step.draws else []
        return step.call(pixels, *drawn), None

    def stored(self, pixels: Pixels) -> tuple[Picture, Clipped]:
        """Pixels as the result stores them."""
        if self.reference.bits is None and not self.keeps:
            clipped = beyond(pixels)
            return self.reference.with_pixels(pixels.clip(0, 1))[0], clipped
        if self.keeps and self.reference.bits is not None:
            blank = np.zeros_like(pixels[:1, :1])
            floats = Picture(blank, None, self.reference.colour, self.reference.origin)
            return floats.with_pixels(pixels)
        return self.reference.with_pixels(pixels)

    def record(self, step: Bound, before: Pixels, after: Pixels, rate: float | None) -> StepRecord:
        """Findings on a step."""
        survey = survey_of(step, before) if before.shape == after.shape else None
        if survey is None:
            findings, clipped = self._whole(step, before, after)
        else:
            sums, clipped = self.sums(survey, before, after)
            findings = survey.findings(sums)
        if rate is not None:
            findings.insert(0, Finding("rate", "bpp", None, rate, rate))
        return self.recorded(step, findings, clipped)

    def certificate(
        self,
        reference: Framed,
        chain: Chain,
        records: Sequence[StepRecord],
        clipped: Clipped,
        rms_difference: float | None,
        aim: Aim | None = None,
    ) -> Certificate:
        """The certificate; `PictureError` where samples leave the range and may not."""
        if self.overflow == "fail" and clipped.share > 0:
            raise PictureError(
                f"{clipped.share:.3%} of the samples leave the range, and overflow is fail: keep "
                "them in a float picture (overflow keep), or degrade less"
            )
        return Certificate(
            reference=reference.origin,
            reference_sha256=self.digest.hex(),
            picture=reference.frame.describe(),
            chain=str(chain),
            seed=self.seed,
            steps=tuple(records),
            rms_difference=rms_difference,
            amplitude_unit=self.reference.amplitude_unit,
            clipped=clipped,
            overflow="keep" if self.keeps else "clip",
            aim=aim,
        )

    def recorded(self, step: Bound, findings: list[Finding], clipped: Clipped) -> StepRecord:
        """Findings with those of storing, in the picture's units."""
        findings = [*findings, *storage_findings(clipped, kept=self.keeps)]
        advice = storage_advice(findings, clipped, self.bits)
        scaled = tuple(finding.in_units_of(self.reference) for finding in findings)
        return StepRecord(str(step.step), scaled, advice)

    def sums(self, survey: Survey, before: Pixels, after: Pixels) -> tuple[Float64, Clipped]:
        """Sums over bands, so that nothing of the picture's size is held in between."""
        large = after.size >= WORTH_COMPILING and before.dtype == after.dtype == np.float32
        loop = survey.in_one_pass if large and self.bits is not None else None

        def work(part: slice) -> tuple[Float64, Clipped]:
            if loop is None:
                picture, clipped = self.stored(after[part])
                change = Change(before[part], after[part], picture.pixels(), clipped)
                return survey.of(change), clipped
            sums = loop(before[part], after[part], np.float32(self.reference.full_scale))
            return sums[2:], Clipped(int(sums[0]), int(sums[1]), after[part].size)

        sums, clipped = zip(*spread(work, bands_of(after)), strict=True)
        return np.sum(sums, axis=0), reduce(Clipped.and_of, clipped)

    def _whole(self, step: Bound, before: Pixels, after: Pixels) -> tuple[list[Finding], Clipped]:
        """Findings of a step that needs the whole picture for them."""
        picture, clipped = self.stored(after)
        change = Change(before, after, picture.pixels(), clipped)
        method = step.method
        certify = method.certify if isinstance(method, Degradation) else None
        if certify is None:
            return [Finding("rms change", "fs", None, None)], clipped
        return certify(change, **step.settings), clipped

    @property
    def bits(self) -> int | None:
        """Bit depth of the result."""
        return None if self.keeps else self.reference.bits


def survey_of(step: Bound, before: Pixels) -> Survey | None:
    """Survey of a step band by band; None where its certificate needs the whole picture."""
    method = step.method
    if not isinstance(method, Degradation) or (method.certify is None and method.survey is None):
        return ChangeSurvey()
    if method.survey is None:
        return None
    survey: Survey | None = method.survey(before, **step.settings)
    return survey
