"""Run a chain of degradations on a picture and certify it."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, get_args

import numpy as np

from magnetite.core.arrays import Pixels, Samples
from magnetite.core.chain.bind import Bound, ReadOnce, bind
from magnetite.core.chain.notation import as_chain
from magnetite.core.chain.step import Chain
from magnetite.core.compute.compiling import band_of
from magnetite.core.compute.random import band_generator, step_generator
from magnetite.core.degrade.certify.through import NoiseSurvey
from magnetite.core.errors import ChainError, InputError, PictureError, check_choice
from magnetite.core.methods.context import Files
from magnetite.core.methods.declarations import Degradation
from magnetite.core.metrics.kernels.errors import error_sums
from magnetite.core.operations.aim import Aim, Target, solve_chain
from magnetite.core.operations.certificate import Certificate, FindingRow
from magnetite.core.operations.coding import through
from magnetite.core.operations.findings import StepFindings, Storage, surveys
from magnetite.core.operations.local import REMEDY, height_for, obstacle_of, reach_of, whole_note
from magnetite.core.operations.restoration_chain import missing_sd
from magnetite.core.picture import Clipped, Picture
from magnetite.core.picture.frame import Frame, Light
from magnetite.core.picture.rows import (
    UNBOUNDED,
    Allowance,
    Band,
    BandsDigest,
    Rows,
    as_rows,
    digest_of,
    in_bands,
    joined,
    whole,
)
from magnetite.core.quantities import percent
from magnetite.core.table import Tabular

#: Kinds of steps that a degradation may have: restorations are those that a camera applies itself.
KINDS = ("degradation", "codec", "restoration")
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


def degrade(
    source: Rows | Samples,
    chain: Chain | str,
    *,
    seed: int = 0,
    overflow: Overflow | None = None,
    aim: Target | str | None = None,
    files: Files | None = None,
) -> Degraded:
    """Degrade a picture by a chain of degradations and codecs.

    Between steps the samples stay float and may leave 0..1; digital numbers are rounded and
    clipped once, at the end.

    Parameters
    ----------
    source : Picture or array
        See `as_picture` for arrays.
    chain : str or Chain
        Chain notation, such as `gaussian-blur sigma=1.6px + gaussian-noise sd=12dn`.
    seed : int
        Same seed and same picture, same result.
    overflow : "clip", "keep" or "fail", optional
        Treatment of samples outside 0..1 at the end: clipped and counted; kept, the result
        then being a float picture; or refused. Left out, digital numbers are clipped, and float
        samples kept.
    aim : str or Target, optional
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

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> degraded = magnetite.degrade(ramp, "offset by=2dn")
    >>> degraded.picture.samples[0, :3].tolist()
    [2, 3, 4]
    """
    job = degrading(source, chain, seed=seed, overflow=overflow, aim=aim, files=files)
    return Degraded(joined(job), job.certificate())


def degrading(
    source: Rows | Samples,
    chain: Chain | str,
    *,
    seed: int = 0,
    overflow: Overflow | None = None,
    aim: Target | str | None = None,
    files: Files | None = None,
    allowance: Allowance = UNBOUNDED,
) -> DegradedRows:
    """The degradation of a picture of any size, still to be carried out; see `degrade`.

    Raises
    ------
    InputError
        If a step needs the whole picture, which has more samples than are allowed, or `overflow`
        is none of the three.
    LimitError
        If the memory does not suffice for a band.
    """
    if overflow is not None:
        check_choice("overflow", overflow, get_args(Overflow))
    reference = as_rows(source)
    parsed = as_chain(chain, *KINDS, auto=aim is not None)
    _check_sd(parsed)
    options = _Options(seed, overflow, ReadOnce(files))
    if aim is None:
        return DegradedRows(reference, parsed, options, allowance)
    clean = whole(reference)
    options = replace(options, digest=clean.digest(), certified=False)
    parsed, reached = solve_chain(
        parsed, Target.of(aim), clean, lambda c: joined(DegradedRows(clean, c, options)),
        options.files,
    )  # fmt: skip
    return DegradedRows(clean, parsed, replace(options, certified=True, reached=reached))


def _check_sd(chain: Chain) -> None:
    """Raise `ChainError` for a step that would estimate the sd of the noise."""
    for step in chain.steps:
        if step.kind == "restoration" and (key := missing_sd(step)):
            raise ChainError(f"{step}: a degradation states the sd of the noise: write {key}=")


def degrade_chain(
    reference: Picture, chain: Chain, seed: int, files: Files | None = None
) -> Picture:
    """The picture that `degrade` gives, without its certificate."""
    return joined(DegradedRows(reference, chain, _Options(seed, None, files, certified=False)))


@dataclass(frozen=True)
class _Options:
    """Settings of a degradation besides picture and chain."""

    seed: int
    overflow: Overflow | None
    files: Files | None
    #: Whether findings are computed; without them, the certificate is None.
    certified: bool = True
    #: Of the reference, where it is known.
    digest: bytes | None = None
    #: Result of an aim.
    reached: Aim | None = None


@dataclass
class DegradedRows:
    """A picture that is degraded band by band: iterate for the bands, then ask for the certificate.

    Made by `degrading`. A picture that fits into memory is one band.
    """

    source: Rows
    chain: Chain
    options: _Options
    allowance: Allowance = UNBOUNDED
    _squares: tuple[float, float, int] | None = field(default=None, init=False)
    _clipped: Clipped = field(default_factory=lambda: Clipped(0, 0, 0), init=False)

    def __post_init__(self) -> None:
        frame, self.allowance = self.source.frame, self.allowance.of(self.source)
        self._steps = bind(self.chain, frame, self.options.files)
        obstacle = next(filter(None, map(_obstacle, self._steps)), None)
        self._height = height_for(self._steps, frame, self.allowance, obstacle)
        self.note = whole_note(obstacle, self._height, frame, self.allowance)
        self.storage = Storage.of(self.source.part(slice(0, 1)), self.options.overflow)
        self._findings: list[StepFindings] = []
        self._lights = _lights(frame.light, self._steps)

    @property
    def frame(self) -> Frame:
        """Of the result, where the steps keep the picture's size."""
        frame = replace(self.source.frame, bits=self.storage.bits)
        for step in self._steps:
            method = step.method
            if isinstance(method, Degradation) and method.gives is not None:
                channels = 1 if method.gives == "gray" else 3
                frame = replace(frame, colour=method.gives, channels=channels)
        return replace(frame, light=self._lights[-1])

    @property
    def banded(self) -> bool:
        """Whether the picture is worked on in several bands."""
        return self._height < self.source.frame.height

    def __iter__(self) -> Iterator[Picture]:
        """The result's bands, from the top."""
        self._digest = self.options.digest or digest_of(self.source)
        lights = zip(self._steps, self._lights, strict=False)
        self._findings = [StepFindings(step, self.storage, light) for step, light in lights]
        reach = reach_of(self._steps)
        self._result: BandsDigest | None = None
        for band in in_bands(self._height, self.source, before=reach, after=reach):
            stored = self._band(band)
            if self.options.certified:
                height = self.source.frame.height if self.banded else stored.height
                self._result = self._result or BandsDigest(height)
                self._result.add(stored)
            yield stored

    def _band(self, band: Band) -> Picture:
        (picture,) = band.pictures
        before: Pixels = picture.pixels()
        own = self._own(band)
        clean: Pixels | None = None
        for position, step in enumerate(self._steps):
            after, rate = self._after(step, before, position, band)
            if self.options.certified:
                self._findings[position].add(before[own], after[own], rate)
                clean = self._follow(step, position, clean, before, after, band)
            before = after
        stored, clipped = self.storage.stored(before[own])
        self._clipped = self._clipped.and_of(clipped)
        if self.options.certified:
            self._add_error(picture.part(own), stored)
        return replace(stored, light=self._lights[-1])

    def _follow(
        self, step: Bound, position: int, clean: Pixels | None, before: Pixels, after: Pixels,
        band: Band,
    ) -> Pixels | None:  # fmt: skip
        """Samples without noise after a step, where noise goes through a mosaic's interpolation.

        The difference is the noise on its way, which is measured after each step.
        """
        if not self._followed or (clean is None and not step.draws):
            return clean
        if clean is None:
            clean = before
        elif not step.draws:
            clean, _ = self._after(step, clean, position, band)
        findings, noise = self._findings[position], (after - clean)[self._own(band)]
        height = self.source.frame.height if self.banded else len(noise)
        findings.noise = findings.noise or NoiseSurvey(height)
        findings.noise.add(noise, band.rows.start)
        return clean

    def _own(self, band: Band) -> slice:
        """The band's rows within those that it reads; all of those of the only band."""
        return band.own if self.banded else slice(None)

    @property
    def _followed(self) -> bool:
        """Whether a step after one that draws random numbers gives another colour."""
        drawn = False
        for step in self._steps:
            method = step.method
            if drawn and isinstance(method, Degradation) and method.gives is not None:
                return True
            drawn = drawn or step.draws
        return False

    def _after(
        self, step: Bound, pixels: Pixels, position: int, band: Band
    ) -> tuple[Pixels, float | None]:
        """Samples after a step, and the rate of a codec."""
        if step.method.kind == "codec":
            decoded, size = through(step, pixels)
            return decoded, step.frame.bpp(size)
        drawn = [self._generator(position, band)] if step.draws else []
        with band_of(self.source.frame.plane):
            after: Pixels = step.call(pixels, *drawn)
        return after, None

    def _generator(self, position: int, band: Band) -> np.random.Generator:
        seed, digest, rows = self.options.seed, self._digest, band.around
        total, count = self.source.frame.height, rows.stop - rows.start
        if count == total:
            return step_generator(seed, digest, position)
        return band_generator(seed, digest, position, first=rows.start, count=count, total=total)

    def _add_error(self, reference: Picture, stored: Picture) -> None:
        if stored.samples.shape != reference.samples.shape:
            return
        if reference.bits == stored.bits:
            sums, scale = error_sums(reference.samples, stored.samples), 1.0
        else:
            sums = error_sums(reference.pixels(), stored.pixels())
            scale = reference.full_scale
        _, squares, number = self._squares or (scale, 0.0, 0)
        self._squares = scale, squares + sums.squares, number + sums.number

    def certificate(self) -> Certificate:
        """The certificate, once all bands were taken.

        Raises
        ------
        PictureError
            If samples leave the range and may not.
        """
        if self.options.overflow == "fail" and self._clipped.share > 0:
            raise PictureError(
                f"{percent(self._clipped.share)} of the samples leave the range, and overflow is "
                "fail: keep them in a float picture (overflow keep), or degrade less"
            )
        return Certificate(
            reference=self.source.origin,
            reference_sha256=self._digest.hex(),
            picture=self.source.frame.describe(),
            result_sha256=self._result.digest().hex() if self._result else "",
            chain=str(self.chain),
            seed=self.options.seed,
            steps=tuple(findings.record() for findings in self._findings),
            rms_difference=_rms(self._squares),
            amplitude_unit=self.storage.like.amplitude_unit,
            clipped=self._clipped,
            overflow="keep" if self.storage.keeps else "clip",
            aim=self.options.reached,
        )


def _lights(first: Light, steps: Sequence[Bound]) -> list[Light]:
    """Relation of the samples to light before each step, and after the last."""
    lights = [first]
    for step in steps:
        method = step.method
        given = method.gives_light if isinstance(method, Degradation) else None
        lights.append(given or lights[-1])
    return lights


def _rms(squares: tuple[float, float, int] | None) -> float | None:
    """Root mean square of a scale, a sum of squares and their number."""
    return None if squares is None else math.sqrt(squares[1] / squares[2]) * squares[0]


def _obstacle(step: Bound) -> InputError | None:
    """Why a degradation needs the whole picture; None where it does not."""
    method = step.method
    if step.draws and (not isinstance(method, Degradation) or method.draws_by == "picture"):
        return InputError(
            f"{step.step}: needs the whole picture, for its random numbers depend on the samples; "
            f"{REMEDY}"
        )
    if obstacle := obstacle_of(step):
        return obstacle
    if not surveys(step):
        return InputError(f"{step.step}: needs the whole picture for its certificate; {REMEDY}")
    return None
