"""Restore pictures, and judge the residual."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

from magnetite.core.analysis.residual import Residual, residual
from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import ReadOnce
from magnetite.core.chain.notation import parse_chain
from magnetite.core.errors import InputError
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.parameters import Context, Files, NoFiles
from magnetite.core.operations.restoration_chain import run
from magnetite.core.operations.score import DEFAULT_METRICS, Scores, score
from magnetite.core.operations.tuning import Tuned, tune
from magnetite.core.picture import Clipped, Picture, as_picture
from magnetite.core.picture.matching import check_comparable
from magnetite.core.rows import Tabular, data_frame


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

    def frame(self) -> Any:
        """The rows as a pandas data frame."""
        return data_frame(self.rows())


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
    source: Picture | Samples,
    chain: str,
    *,
    reference: Picture | Samples | None = None,
    aim: str | None = None,
    metrics: str = DEFAULT_METRICS,
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
    chain : str
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
    """
    picture = as_picture(source)
    clean = None if reference is None else as_picture(reference)
    if clean is not None:
        check_comparable(clean, picture)
    steps, files = parse_chain(chain, "restoration", auto=True), ReadOnce(files)
    tuned = None
    if aim is not None:
        noise = None if noise_sd is None else _amplitude(noise_sd, picture)
        tuned = tune(picture, steps, _best_of(aim), clean, files, noise=noise)
        steps = tuned.chain
    pixels, known, notes = run(picture, steps, picture.pixels(), files)
    restored, clipped = picture.with_pixels(pixels)
    before, after = (
        None if clean is None else score(clean, one, metrics) for one in (picture, restored)
    )
    return Restored(
        str(known), clipped, before, after,
        picture=restored, source=picture, tuned=tuned, notes=tuple(_all(notes, tuned)),
    )  # fmt: skip


def _all(notes: list[str], tuned: Tuned | None) -> Iterable[str]:
    return notes if tuned is None else [tuned.words, *notes]


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
