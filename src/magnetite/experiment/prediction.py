"""The rate that a new picture will need, from the pictures of a run."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any, NamedTuple

import numpy as np
import pandas as pd

from magnetite.core.analysis.conformal import conformal_interval
from magnetite.core.curves.comparison import Better, rate_at
from magnetite.core.curves.study import activity_of
from magnetite.core.errors import InputError
from magnetite.core.operations.aim import Target
from magnetite.core.picture import Picture
from magnetite.core.quantities import abbreviated, counted, figure
from magnetite.experiment.rates import curve_labels
from magnetite.experiment.results import RunRows, RunTable, better_of

#: Points that the curve of a reference needs.
_POINTS = 4


class NewPicture(NamedTuple):
    """A picture whose rate is predicted: its name, activity in dn of 8 bits, channels and depth."""

    name: str
    activity: float
    channels: int
    bits: int | None
    #: Of the samples, in hexadecimal digits.
    digest: str = ""

    @classmethod
    def of(cls, picture: Picture) -> NewPicture:
        """The facts of a picture; `InputError` where it has no activity."""
        activity = activity_of(picture)
        if activity is None:
            raise InputError(f"{picture.origin}: a single sample has no activity to predict from")
        digest = picture.digest().hex()
        return cls(picture.origin, activity, picture.channels, picture.bits, digest)

    @property
    def kind(self) -> tuple[int, int]:
        """Channels and depth, 0 of float samples: rates of other kinds tell nothing of it."""
        return self.channels, self.bits or 0


def predicted_rates(
    rows: RunRows, need: Target, pictures: Sequence[NewPicture], confidence: float
) -> RunTable:
    """The rate at which each new picture meets a need, with an interval.

    The logarithm of the rate at which a reference meets the need is a straight line in the
    logarithm of its activity; the interval is conformal (see `conformal_interval`), so that it
    holds for pictures of the references' kind whatever they look like. Only references with the
    channels and the depth of the new picture count.

    Parameters
    ----------
    rows : RunRows
        With treatments that sweep a codec over four settings or more.
    need : Target
        A metric with its bound, such as `ssim>=0.95`.
    pictures : sequence of NewPicture
    confidence : float

    Returns
    -------
    RunTable
        A row for each picture, degradation and treatment.

    Raises
    ------
    InputError
        If the run lacks the metric, has no reference with the channels and depth of a picture, or
        no treatment has curves.
    """
    label, better = _checked(rows, need)
    made: list[tuple[Any, ...]] = []
    notes = list(rows.omissions())
    for degradation, name, group, own in _alike(rows, label, pictures):
        known, never, always, short = _rates(group, label, need.value, better)
        if short:
            notes.append(
                f"{name} after {degradation}: {counted(short, 'reference')} with fewer than "
                f"{_POINTS} rates left out"
            )
        if len(known) < 3:
            continue
        if unknown := never + always:
            counts = ((never, "at no rate of the run"), (always, "at every rate"))
            words = " and ".join(f"{when} by {count}" for count, when in counts if count)
            notes.append(
                f"{name} after {degradation}: {need} is met {words} of "
                f"{len(known) + unknown} references: they count as the least predictable"
            )
        logs = np.log(np.array(known))
        for one in own:
            found = conformal_interval(
                logs[:, :1], logs[:, 1], np.log([max(one.activity, 1e-6)]), confidence, unknown
            )
            ends = (math.exp(v) if math.isfinite(v) else math.nan for v in found[1:])
            made.append((one.name, one.activity, degradation, name, math.exp(found.value), *ends,
                         len(known)))  # fmt: skip
    if not made:
        raise InputError(
            f"no treatment has curves of {_POINTS} rates or more that cross {need} on three "
            "references like the pictures: sweep a codec in the plan over a wider range"
        )
    notes += _extrapolated(rows, pictures)
    predicted = {row[0] for row in made}
    if lost := [one.name for one in pictures if one.name not in predicted]:
        notes.append(f"{abbreviated(lost)}: no rate, for fewer than three references of the same "
                     f"channels and depth have curves that cross {need}")  # fmt: skip
    share = f"{100 * confidence:g} %"
    titles = ["picture", "activity dn", "degradation", "treatment", "bpp", f"{share} from", "to",
              "references"]  # fmt: skip
    frame = pd.DataFrame(made, columns=titles)
    if frame["to"].isna().any():
        least = math.ceil(1 / (1 - confidence)) - 1
        notes.append(f"an interval of {share} takes {least} references, and more where some do not "
                     "meet the need")  # fmt: skip
    return RunTable(
        "prediction", f"Rate for {need}", frame,
        f"in {share} of new pictures of the references' kind the rate lies in the interval; it "
        "follows from their activity",
        tuple(notes),
    )  # fmt: skip


def _extrapolated(rows: RunRows, pictures: Sequence[NewPicture]) -> Iterator[str]:
    """A sentence on each picture whose activity is far from those of the references of its kind.

    One of three new pictures lies beyond the range of five references of its kind: far is an sd of
    their logarithms beyond it.
    """
    frame = rows.frame.assign(kind=_kinds(rows)).drop_duplicates("reference")
    for one in pictures:
        known = frame[frame["kind"] == one.kind]["reference activity"].dropna()
        logs = np.log(np.maximum(known.to_numpy(float), 1e-6))
        if len(logs) < 2:
            continue
        beyond = abs(math.log(max(one.activity, 1e-6)) - (logs.max() + logs.min()) / 2)
        if beyond > np.ptp(logs) / 2 + logs.std(ddof=1):
            yield (
                f"{one.name}: its activity, {figure(one.activity)} dn, lies far beyond those of "
                f"the references, {figure(known.min())} to {figure(known.max())} dn: it may not be "
                "of their kind, and the rate is extrapolated"
            )


def known_pictures(pictures: Sequence[NewPicture], digests: Mapping[str, str]) -> Iterator[str]:
    """A sentence on each picture that is a reference of the run, by names and digests of these."""
    names = {digest: name for name, digest in digests.items()}
    for one in pictures:
        if one.digest in names:
            yield (
                f"{one.name} is the run's reference {names[one.digest]}: the interval holds for "
                "new pictures, and its own rates are in the run"
            )


def _checked(rows: RunRows, need: Target) -> tuple[str, Better]:
    label = str(need.step)
    if label not in rows.figures or better_of(label) is None:
        raise InputError(
            f"{label!r} is not a metric of this run; it has: {', '.join(rows.figures)}"
        )
    better: Better = "higher" if better_of(label) == "higher" else "lower"
    if need.sense != (">=" if better == "higher" else "<="):
        raise InputError(f"--need {need}: write {label}{'>=' if better == 'higher' else '<='}VALUE")
    return label, better


def _alike(
    rows: RunRows, label: str, pictures: Sequence[NewPicture]
) -> Iterator[tuple[str, str, Any, list[NewPicture]]]:
    """Degradation, curve, their rows of references of one kind, and the pictures of it."""
    kinds = _kinds(rows)
    for one in pictures:
        if one.kind not in kinds:
            raise InputError(
                f"{one.name} is a picture of {_described(*one.kind)}, and the run's references are "
                f"of {' or '.join(_described(*kind) for kind in dict.fromkeys(kinds))}: convert it "
                "as the plan's references were, as in --convert gray, or run a plan of such "
                "pictures"
            )
    frame = rows.frame.assign(kind=kinds)
    coded = frame[frame["bpp"].notna() & frame[label].notna()]
    coded = coded.assign(curve=curve_labels(coded))
    names = ["degradation", "curve", "kind"]
    for (degradation, name, kind), group in coded.groupby(names, sort=False):
        if own := [one for one in pictures if one.kind == kind]:
            yield degradation, name, group, own


def _kinds(rows: RunRows) -> list[tuple[int, int]]:
    """Channels and depth of each row's reference, 0 of float samples."""
    bits = rows.frame["bits"].fillna(0).astype(int)
    return list(zip(rows.frame["channels"], bits, strict=True))


def _described(channels: int, bits: int) -> str:
    return f"{counted(channels, 'channel')} of {f'{bits} bits' if bits else 'float samples'}"


def _rates(
    group: Any, label: str, value: float, better: Better
) -> tuple[list[tuple[float, float]], int, int, int]:
    """Activity and rate of references whose curve crosses a value; numbers of references that meet
    it at no rate, that meet it at every rate, and that have too few rates.
    """
    known, never, always, short = [], 0, 0, 0
    for _, own in group.groupby("reference", sort=False):
        points = own.groupby("treatment", sort=False)[["bpp", label]].mean()
        if len(points) < _POINTS or own["reference activity"].isna().any():
            short += 1
            continue
        curve = list(zip(points["bpp"].tolist(), points[label].tolist(), strict=True))
        rate = None
        with suppress(InputError):  # the score falls with the rate, as of coded noise
            rate = rate_at(curve, value, better)
        if rate is None:
            scores = points[label]
            least = scores.min() >= value if better == "higher" else scores.max() <= value
            always, never = always + bool(least), never + (not least)
        else:
            known.append((max(float(own["reference activity"].iloc[0]), 1e-6), rate))
    return known, never, always, short
