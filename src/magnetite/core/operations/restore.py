"""Restore pictures, and judge the residual."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

from magnetite.core.analysis.residual import Residual, residual
from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import ReadOnce, bind
from magnetite.core.chain.notation import as_chain
from magnetite.core.chain.step import Chain
from magnetite.core.compute.compiling import band_of
from magnetite.core.errors import InputError
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.context import Context, Files, NoFiles
from magnetite.core.operations.local import height_for, obstacle_of, reach_of, whole_note
from magnetite.core.operations.restoration_chain import missing_sd, run
from magnetite.core.operations.score import DEFAULT_METRICS, Scorer, Scores
from magnetite.core.operations.selection import Named
from magnetite.core.operations.tuning import Tuned, tune
from magnetite.core.picture import Clipped, Picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.matching import check_comparable
from magnetite.core.picture.rows import UNBOUNDED, Allowance, Rows, as_rows, in_bands, joined, whole
from magnetite.core.table import Tabular


class RestoredRow(NamedTuple):
    """One figure before and after; figures of the residual have no value before."""

    figure: str
    before: float | None
    after: float
    unit: str = ""


@dataclass(frozen=True, repr=False)
class Outcome(Tabular):
    """The result of a restoration, except the picture."""

    #: Canonical, with the sd of the noise where that was estimated.
    chain: str
    clipped: Clipped
    #: Scores against the reference, where there is one.
    before: Scores | None = None
    after: Scores | None = None

    @property
    def residual(self) -> Residual | None:
        """Picture minus restored picture; None where that cannot be judged."""
        return None

    def rows(self) -> list[RestoredRow]:
        """Scores before and after, then the figures of the residual."""
        rows = []
        if self.before is not None and self.after is not None:
            rows += [
                RestoredRow(label, self.before[label], self.after[label], self.before.unit(label))
                for label in self.before
            ]
        if self.residual is not None:
            rows += [
                RestoredRow(f"residual {name}", None, value, unit)
                for name, value, unit in self.residual.figures()
            ]
        return rows


@dataclass(frozen=True, kw_only=True, repr=False)
class Restored(Outcome):
    """A restored picture and its figures."""

    picture: Picture
    #: The degraded picture.
    source: Picture
    #: Result of the tuning, where a setting was tuned.
    tuned: Tuned | None = None
    #: Remarks for the user.
    notes: tuple[str, ...] = ()

    @cached_property
    def residual(self) -> Residual | None:
        """Source minus restored picture, judged when it is first asked for."""
        return residual(self.source, self.picture)


def restore(
    source: Rows | Samples,
    chain: Chain | str,
    *,
    reference: Rows | Samples | None = None,
    aim: str | None = None,
    metrics: Named = DEFAULT_METRICS,
    noise_sd: str | None = None,
    files: Files | None = None,
) -> Restored:
    """Restore a picture by a chain of restorations, such as `median size=3`.

    Samples stay float between the steps and are rounded and clipped once, at the end. Where a
    method takes the sd of the noise and is given none, or `auto`, it is estimated on
    the result of the steps before.

    Parameters
    ----------
    source : Picture or array
        The degraded picture.
    chain : str or Chain
        Chain notation.
    reference : Picture or array, optional
        The clean picture: both are scored against it.
    aim : str, optional
        `METRIC=best`: the setting written `auto` is tuned, by any metric where there is a
        reference; without one by psnr, from an estimate of the error that is known for chains
        that remove noise or undo a known blur.
    noise_sd : str, optional
        Amplitude of the picture's white Gaussian noise where it is known, as in `8dn`: the
        estimate rests on it, and is estimated from the picture if left out.
    metrics : str
        Metrics that both are scored by.
    files : Files, optional
        Reads files that settings name, each once.

    Raises
    ------
    ChainError
        If the chain or the aim cannot be read or used on this picture.
    PictureError
        If the picture does not suit a step or does not match the reference.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> spiked = ramp.copy()
    >>> spiked[30, 50] = 255
    >>> restored = magnetite.restore(spiked, "median size=3", reference=ramp, metrics="max-error")
    >>> restored.before["max-error"], restored.after["max-error"]
    (205.0, 0.0)
    """
    job = restoring(source, chain, reference=reference, aim=aim, noise_sd=noise_sd, files=files)
    return job.restored(joined(job), metrics)


def restoring(
    source: Rows | Samples,
    chain: Chain | str,
    *,
    reference: Rows | Samples | None = None,
    aim: str | None = None,
    noise_sd: str | None = None,
    files: Files | None = None,
    allowance: Allowance = UNBOUNDED,
) -> RestoredRows:
    """The restoration of a picture of any size, still to be carried out; see `restore`.

    Raises
    ------
    InputError
        If a step needs the whole picture, which has more samples than are allowed, or the sd of the
        noise is given where no error is estimated.
    LimitError
        If the memory does not suffice for a band.
    """
    if noise_sd is not None and (aim is None or reference is not None):
        raise InputError(
            "the sd of the noise goes with the aim psnr=best without a reference; otherwise write "
            "it as a setting, as in sd=5dn"
        )
    picture, clean = as_rows(source), None if reference is None else as_rows(reference)
    if clean is not None:
        check_comparable(clean, picture)
    steps, files = as_chain(chain, "restoration", auto=True), ReadOnce(files)
    if aim is None:
        return RestoredRows(picture, steps, files, clean, allowance)
    picture, clean = whole(picture), None if clean is None else whole(clean)
    noise = None if noise_sd is None else _amplitude(noise_sd, picture)
    tuned = tune(picture, steps, _best_of(aim), clean, files, noise=noise)
    return RestoredRows(picture, tuned.chain, files, clean, tuned=tuned)


@dataclass
class RestoredRows:
    """A picture that is restored band by band: iterate for the bands.

    Made by `restoring`. A picture that fits into memory is one band, and so is one whose noise
    is to be estimated.
    """

    source: Rows
    #: With every sd of the noise, once the bands were taken.
    chain: Chain
    files: Files
    reference: Rows | None = None
    allowance: Allowance = UNBOUNDED
    tuned: Tuned | None = None
    #: Samples clipped in the bands taken so far.
    clipped: Clipped = field(default_factory=lambda: Clipped(0, 0, 0), init=False)

    def __post_init__(self) -> None:
        #: For the scores, of which the reference may be larger than memory.
        self.scoring = self.allowance
        frame, self.allowance = self.source.frame, self.allowance.of(self.source)
        self._height, self._reach, note = frame.height, 0, ""
        if not self.allowance.fits(frame):
            obstacle, steps = _estimates(self.chain), bind(self.chain, frame, self.files)
            obstacle = obstacle or next(filter(None, map(obstacle_of, steps)), None)
            self._height = height_for(steps, frame, self.allowance, obstacle)
            self._reach = reach_of(steps) if self._height < frame.height else 0
            note = whole_note(obstacle, self._height, frame, self.allowance)
        #: Remarks for the user.
        self.notes = [*([note] if note else []), *([self.tuned.words] if self.tuned else [])]

    @property
    def frame(self) -> Frame:
        """Of the result."""
        return self.source.frame

    @property
    def banded(self) -> bool:
        """Whether the picture is worked on in several bands."""
        return self._height < self.source.frame.height

    def __iter__(self) -> Iterator[Picture]:
        """The result's bands, from the top."""
        reach, chain = self._reach, self.chain
        for band in in_bands(self._height, self.source, before=reach, after=reach):
            (picture,) = band.pictures
            with band_of(self.source.frame.plane):
                pixels, self.chain, notes = run(picture, chain, picture.pixels(), self.files)
            self.notes += notes
            restored, clipped = picture.with_pixels(pixels[band.own])
            self.clipped = self.clipped.and_of(clipped)
            yield restored

    def outcome(self, restored: Rows, metrics: Named = DEFAULT_METRICS) -> Outcome:
        """The result, once the bands were taken, with the scores of the restored picture."""
        before = after = None
        if self.reference is not None:
            scorer = Scorer(self.reference, files=self.files, allowance=self.scoring)
            before, after = (scorer.score(one, metrics) for one in (self.source, restored))
        return Outcome(str(self.chain), self.clipped, before, after)

    def restored(self, picture: Picture, metrics: Named = DEFAULT_METRICS) -> Restored:
        """The same for a picture in memory, whose residual is judged as well."""
        return Restored(
            **vars(self.outcome(picture, metrics)), picture=picture, source=whole(self.source),
            tuned=self.tuned, notes=tuple(self.notes),
        )  # fmt: skip


def _estimates(chain: Chain) -> InputError | None:
    """Why a chain needs the whole picture to estimate its noise; None where it does not."""
    for step in chain.steps:
        if key := missing_sd(step):
            return InputError(
                f"{step}: the sd of the noise is estimated from the whole picture; in bands, write "
                f"it, as in {key}=5dn"
            )
    return None


def _amplitude(text: str, picture: Picture) -> float:
    """An amplitude as a share of full scale."""
    kind, digital = Amplitude(), None if picture.bits is None else picture.full_scale
    try:
        return float(kind.resolve(kind.parse(text), Context(digital, {}, NoFiles())))
    except ValueError as error:
        raise InputError(f"the sd of the noise, {text!r}: {error}") from None


def _best_of(aim: str) -> str:
    """The metric of `METRIC=best`."""
    metric, _, value = aim.rpartition("=")
    if not metric or value != "best":
        raise InputError(f"the aim {aim!r} is not METRIC=best, as in psnr=best")
    return metric
