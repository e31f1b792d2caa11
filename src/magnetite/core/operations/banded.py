"""Degrade, restore and convert pictures in bands of rows, whatever their size.

A chain can be carried out in bands where every step looks only a known number of rows around a
sample and needs no figure of the whole picture. The result is that of the whole picture.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.chain.bind import Bound, ReadOnce, bind, bind_step
from magnetite.core.chain.notation import parse_chain
from magnetite.core.chain.step import Chain, Step
from magnetite.core.compute.compiling import band_of
from magnetite.core.compute.random import BandGenerator, band_generator
from magnetite.core.errors import InputError
from magnetite.core.limits import BYTES_PER_SAMPLE
from magnetite.core.methods.declarations import Conversion, Degradation
from magnetite.core.methods.parameters import Files
from magnetite.core.metrics.kernels.errors import error_sums
from magnetite.core.operations.certificate import Certificate
from magnetite.core.operations.degrade import Overflow, Run, survey_of
from magnetite.core.operations.restoration_chain import missing_sd
from magnetite.core.picture import Clipped, Picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.region import RegionRows
from magnetite.core.picture.rows import Band, Rows, band_height, digest_of, in_bands

#: Bytes for each sample that scoring takes: two pictures, two bands of each, and their planes.
_SCORED = 16.0


class DegradedRows:
    """A picture that is degraded band by band: iterate for the bands, then ask for the certificate.

    Parameters
    ----------
    source : Rows
    chain : str
        Degradations; see `degrade` for this and the following parameters.
    memory : int
        Bytes that may be used.
    seed, overflow, files
        As in `degrade`.

    Raises
    ------
    ChainError
        If the chain cannot be read or used on this picture.
    InputError
        If a step needs the whole picture.
    LimitError
        If the memory does not suffice for a band.
    """

    def __init__(
        self,
        source: Rows,
        chain: str,
        memory: int,
        *,
        seed: int = 0,
        overflow: Overflow | None = None,
        files: Files | None = None,
    ) -> None:
        self._source, self._chain = source, parse_chain(chain, "degradation", "codec")
        files = ReadOnce(files)
        self._steps = bind(self._chain, source.frame, files)
        for step in self._steps:
            _check_degradation(step)
        self._reach = _reach(self._steps)
        self._height = band_height(source.frame, _cost(self._steps), memory, self._reach)
        self._run = Run(source.part(slice(0, 1)), b"", seed, overflow, files)
        self._sums: list[tuple[Float64, Clipped]] = []
        self._error, self._clipped = (0.0, 0), Clipped(0, 0, 0)

    @property
    def frame(self) -> Frame:
        """Of the result."""
        kept = self._source.frame
        return Frame(kept.height, kept.width, kept.channels, kept.colour, self._run.bits)

    def __iter__(self) -> Iterator[Picture]:
        """The result's bands, from the top."""
        self._digest = digest_of(self._source)
        self._sums = []
        reach = self._reach
        for band in in_bands(self._height, self._source, before=reach, after=reach):
            yield self._band(band, self._digest)

    def _band(self, band: Band, digest: bytes) -> Picture:
        own, whole, sums = band.own, band.pictures[0], []
        before: Pixels = whole.pixels()
        for position, step in enumerate(self._steps):
            drawn = [self._generator(band, digest, position)] if step.draws else []
            with band_of(self._source.frame.plane):
                after: Pixels = step.call(before, *drawn)
            survey = survey_of(step, before)
            assert survey is not None  # checked when the chain was bound
            sums.append(self._run.sums(survey, before[own], after[own]))
            before = after
        stored, clipped = self._run.stored(before[own])
        self._add(sums, whole.samples[own], stored, clipped)
        return stored

    def _generator(self, band: Band, digest: bytes, position: int) -> BandGenerator:
        rows = band.around
        return band_generator(
            self._run.seed, digest, position,
            first=rows.start, count=rows.stop - rows.start, total=self._source.frame.height,
        )  # fmt: skip

    def _add(
        self, sums: list[tuple[Float64, Clipped]], reference: Any, stored: Picture, clipped: Clipped
    ) -> None:
        pairs = zip(self._sums or sums, sums, strict=True)
        added = [(old + new, clips.and_of(more)) for (old, clips), (new, more) in pairs]
        self._sums = added if self._sums else sums
        self._clipped = self._clipped.and_of(clipped)
        scale = 1.0 if stored.bits is not None else self._run.reference.full_scale
        error = error_sums(reference, stored.samples * scale if scale != 1 else stored.samples)
        self._error = self._error[0] + error.squares, self._error[1] + error.number

    def certificate(self) -> Certificate:
        """The certificate, once all bands were taken."""
        records = []
        for step, (sums, clipped) in zip(self._steps, self._sums, strict=True):
            survey = survey_of(step, self._run.reference.pixels())
            assert survey is not None
            records.append(self._run.recorded(step, survey.findings(sums), clipped))
        squares, count = self._error
        run = replace(self._run, digest=self._digest)
        rms = math.sqrt(squares / count)
        return run.certificate(self._source, self._chain, records, self._clipped, rms)


def _check_degradation(step: Bound) -> None:
    _check_local(step)
    method = step.method
    if step.draws and not (isinstance(method, Degradation) and method.draws_apart):
        raise InputError(
            f"{step.step}: its random numbers depend on the samples, which takes the whole "
            "picture; allow more memory (--memory), or degrade parts of the picture"
        )
    if survey_of(step, np.zeros((1, 1), np.float32)) is None:
        raise InputError(
            f"{step.step}: its certificate needs the whole picture; allow more memory (--memory), "
            "or degrade parts of the picture"
        )


def _check_local(step: Bound) -> None:
    """Raise `InputError` unless a step can be carried out in bands."""
    if step.method.kind == "codec" or step.reach is None or step.needs_statistics:
        raise InputError(
            f"{step.step}: needs the whole picture; allow more memory (--memory), or take a part "
            "of the picture (magnetite convert)"
        )


def _reach(steps: Iterable[Bound]) -> int:
    """Rows around a band that all steps together look at."""
    return sum(step.reach or 0 for step in steps)


def _cost(steps: Sequence[Bound]) -> float:
    """Bytes for each sample that the hungriest step takes, and two bands of samples."""
    return max(step.memory for step in steps) + 8.0


class RestoredRows:
    """A picture that is restored band by band: iterate for the bands.

    Every step must be local and have the sd of the noise written where it takes one.

    Parameters
    ----------
    source : Rows
    chain : str
        Restorations.
    memory : int
        Bytes that may be used.
    files : Files, optional
        As in `restore`.

    Raises
    ------
    ChainError, InputError, LimitError
        As in `DegradedRows`.
    """

    def __init__(
        self, source: Rows, chain: str, memory: int, *, files: Files | None = None
    ) -> None:
        parsed = parse_chain(chain, "restoration", auto=True)
        self.chain, self._source = str(parsed), source
        for step in parsed.steps:
            _check_sd(step)
        self._steps = bind(parsed, source.frame, ReadOnce(files))
        for bound in self._steps:
            _check_local(bound)
        self._reach = _reach(self._steps)
        self._height = band_height(source.frame, _cost(self._steps), memory, self._reach)
        #: Samples clipped in the bands taken so far.
        self.clipped = Clipped(0, 0, 0)

    def __iter__(self) -> Iterator[Picture]:
        """The result's bands, from the top."""
        reach = self._reach
        for band in in_bands(self._height, self._source, before=reach, after=reach):
            pixels: Pixels = band.pictures[0].pixels()
            with band_of(self._source.frame.plane):
                for step in self._steps:
                    pixels = step.call(pixels)
            picture, clipped = band.pictures[0].with_pixels(pixels[band.own])
            self.clipped = self.clipped.and_of(clipped)
            yield picture


def _check_sd(step: Step) -> None:
    if key := missing_sd(step):
        raise InputError(
            f"{step}: the sd of the noise is estimated from the whole picture; in bands, write "
            f"it, as in {key}=5dn"
        )


def converted_rows(
    source: Rows, chain: str | Chain, memory: int
) -> tuple[Frame, Iterator[Picture]]:
    """The frame and the bands of a picture after `convert`, where rows stay rows.

    Raises
    ------
    PictureError
        If a step does not suit the picture.
    ChainError, InputError, LimitError
        As in `DegradedRows`.
    """
    parsed = parse_chain(chain, "conversion") if isinstance(chain, str) else chain
    steps = []
    for step in parsed.steps:
        conversion = step.declared(Conversion)
        if conversion.region is not None:  # other steps keep the position of every sample
            settings = bind_step(step, source.frame).arguments
            source = RegionRows(source, conversion.region(source.frame, **settings))
        elif conversion.reach is not None:
            steps.append(step)
        else:
            raise InputError(f"{step}: needs the whole picture; allow more memory (--memory)")

    def converted(picture: Picture) -> Picture:
        for step in steps:
            picture = bind_step(step, picture.frame).call(picture)
        return picture

    height = band_height(source.frame, BYTES_PER_SAMPLE, memory)
    first = converted(source.part(slice(0, 1)))
    frame = Frame(source.frame.height, first.width, first.channels, first.colour, first.bits)
    return frame, (converted(band.pictures[0]) for band in in_bands(height, source))
