"""The table of guarantees: which settings will still be good for the next picture."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from magnetite.core.analysis.guarantee import (
    lower_bound,
    pictures_needed,
    strongest,
    tolerance_bound,
)
from magnetite.core.errors import InputError
from magnetite.core.operations.aim import Target
from magnetite.core.quantities import counted, figure
from magnetite.experiment.rates import family_of
from magnetite.experiment.results import RunRows, RunTable

#: Name of the table.
GUARANTEE = "guarantee"
#: Share of new references and confidence that are promised unless others are stated.
SHARE, CONFIDENCE = 0.95, 0.9


@dataclass(frozen=True)
class Need:
    """Figures that a picture is to have, all of them."""

    targets: tuple[Target, ...]
    share: float
    confidence: float

    @classmethod
    def of(cls, texts: str | Sequence[str], share: float, confidence: float) -> Need:
        """Read one need such as `ssim>=0.95`, or several.

        Raises
        ------
        InputError
            If a need has no bound, or share or confidence are not between 0 and 1.
        """
        texts = [texts] if isinstance(texts, str) else texts
        if not texts:
            raise InputError("a guarantee is about a need: state one, as in --need 'ssim>=0.95'")
        targets = tuple(map(Target.parse, texts))
        for text, target in zip(texts, targets, strict=True):
            if target.sense == "=" or target.relative:
                raise InputError(
                    f"the need {text!r} states no bound: write FIGURE>=VALUE or FIGURE<=VALUE"
                )
        for name, value in (("share", share), ("confidence", confidence)):
            if not 0 < value < 1:
                raise InputError(f"the {name} of a guarantee is {value:g}, not between 0 and 1")
        return cls(targets, share, confidence)

    @property
    def words(self) -> str:
        """The need, and the promise on it."""
        every = " and ".join(map(str, self.targets))
        return (
            f"{every} for {100 * self.share:g} % of new references, with {100 * self.confidence:g} "
            "% confidence"
        )


def need_of(
    texts: str | Sequence[str], share: float | None, confidence: float | None, *, asked: bool,
    where: str,
) -> Need | None:  # fmt: skip
    """The need of a guarantee that is asked for; `InputError` for its parts where none is.

    `where` names the options that ask for it.
    """
    if asked:
        return Need.of(
            texts, SHARE if share is None else share,
            CONFIDENCE if confidence is None else confidence,
        )  # fmt: skip
    parts = {"--need": texts or None, "--share": share, "--confidence": confidence}
    for name, value in parts.items():
        if value is not None:
            raise InputError(f"{name} goes with {where}")
    return None


def guarantee(rows: RunRows, need: Need) -> RunTable:
    """References that meet a need, setting by setting, with the exact bound of their share.

    A reference meets it if all its repeats do; a row that failed, or has no value, does not.

    Raises
    ------
    InputError
        If the run lacks a figure of the need.
    """
    table, notes = [], []
    for name, _, settings, last in _judged(rows, need):
        notes.append(_sentence(name, settings, last))
        table += settings
    most = max(setting["of"] for setting in table)
    return RunTable(
        GUARANTEE, f"guarantee: {need.words}", pd.DataFrame(table),
        "bound: of the share, exact, one-sided; a setting is guaranteed if its bound and those of "
        "all milder ones reach the share; bpp: mean over the pictures that all settings of a "
        "sequence have",
        (*notes, *_promise(need, most), *excluded(rows, need)),
    )  # fmt: skip


def _judged(
    rows: RunRows, need: Need
) -> Iterator[tuple[str, list[Any], list[dict[str, Any]], int | None]]:
    """Each sequence: its treatment, rows and settings, and the last that is guaranteed."""
    names = [str(target.step) for target in need.targets]
    if absent := [name for name in names if name not in rows.figures]:
        raise InputError(
            f"{absent[0]!r} is not a figure of this run; it has: {', '.join(rows.figures)}"
        )
    for sequence, rates in _sequences(_tried(rows, need)):
        settings = [_setting(*one, need) for one in zip(sequence, rates, strict=True)]
        last = strongest([(s["passed"], s["of"]) for s in settings], need.share, need.confidence)
        for position, setting in enumerate(settings):
            setting["guaranteed"] = "yes" if last is not None and position <= last else "no"
        yield str(sequence[0].iloc[0]["treatment name"]), sequence, settings, last


@dataclass(frozen=True)
class Line:
    """A figure of one reference over the settings."""

    #: Of the worst repeat at each setting; None where it is infinite, or a repeat has none.
    values: list[float | None]
    #: Whether every repeat meets the need at every setting.
    met: bool


@dataclass(frozen=True)
class Drawn:
    """A sequence of settings as the page draws it."""

    name: str
    sentence: str
    settings: tuple[dict[str, Any], ...]
    #: Of each bound of the need, by reference: its line.
    lines: tuple[dict[str, Line], ...]


def drawn(rows: RunRows, need: Need) -> list[Drawn]:
    """The sequences of a guarantee with the scores of all references."""
    return [
        Drawn(
            name,
            _sentence(name, settings, last),
            tuple(settings),
            tuple(_lines(sequence, target) for target in need.targets),
        )
        for name, sequence, settings, last in _judged(rows, need)
    ]


def _lines(sequence: list[Any], target: Target) -> dict[str, Line]:
    """The line of each reference."""
    worst = pd.concat([_worst(own, target) for own in sequence], axis=1)
    return {
        str(name): Line([value if math.isfinite(value) else None for value in values], met)
        for name, values, met in zip(
            worst.index, worst.to_numpy().tolist(), _meets(worst, target).all(axis=1).tolist(),
            strict=True,
        )
    }  # fmt: skip


def _sign(target: Target) -> float:
    """1 for a figure that is to be high, -1 for one that is to be low."""
    return 1.0 if target.sense == ">=" else -1.0


def _meets(values: Any, target: Target) -> Any:
    """Whether figures satisfy the bound; NaN does not."""
    return _sign(target) * values >= _sign(target) * target.value


def _worst(own: Any, target: Target) -> Any:
    """Figure of each reference's worst repeat; the worse infinity if a repeat has none."""
    better = _sign(target) * own[str(target.step)].astype(float)
    return _sign(target) * better.fillna(-math.inf).groupby(own["reference"], sort=False).min()


def _tried(rows: RunRows, need: Need) -> Any:
    """All rows that were tried, in the plan's order, with whether each meets the need."""
    frame = pd.concat([rows.frame, rows.lost]).sort_index()
    met = np.ones(len(frame), bool)
    for target in need.targets:
        met &= _meets(frame[str(target.step)].astype(float), target).to_numpy()
    return frame.assign(met=met & frame["status"].eq("done").to_numpy(), family=[
        family_of(chain) for chain in frame["treatment"]
    ])  # fmt: skip


def _sequences(tried: Any) -> Iterator[tuple[list[Any], list[float]]]:
    """Rows of the settings that are tested one after the other, the mildest first; mean rates.

    A treatment's settings by falling rate, or in the plan's order where there is none; of a
    treatment with a single setting the settings of the degradation, in the plan's order.
    """
    for _, family in tried.groupby(["degradation name", "treatment name", "family"], sort=False):
        if family["treatment"].nunique() == 1:
            settings = [own for _, own in family.groupby("degradation", sort=False)]
            yield settings, _mean_rates(settings)
            continue
        for _, level in family.groupby("degradation", sort=False):
            settings = [own for _, own in level.groupby("treatment", sort=False)]
            rates = _mean_rates(settings)
            if all(map(math.isfinite, rates)):
                order = sorted(range(len(rates)), key=lambda k: -rates[k])
                settings, rates = ([own[k] for k in order] for own in (settings, rates))
            yield settings, rates


def _mean_rates(settings: list[Any]) -> list[float]:
    """Mean rate of each setting over the pictures that have one at all settings; NaN for none."""
    columns = [own.set_index(["reference", "repeat"])["bpp"].astype(float) for own in settings]
    return [float(mean) for mean in pd.concat(columns, axis=1).dropna().mean()]


def _setting(own: Any, rate: float, need: Need) -> dict[str, Any]:
    """A row of the table."""
    met = own.groupby("reference", sort=False)["met"].all()
    first = own.iloc[0]
    row = {
        "degradation": first["degradation"], "treatment": first["label"],
        "bpp": rate, "passed": int(met.sum()), "of": len(met),
        "bound": lower_bound(int(met.sum()), len(met), need.confidence),
    }  # fmt: skip
    for target in need.targets:
        better = _sign(target) * _worst(own, target)
        bound = tolerance_bound(better.tolist(), need.share, need.confidence)
        extreme = "lowest" if target.sense == ">=" else "highest"
        column = f"{extreme} {target.step} of {100 * need.share:g} %"
        row[column] = math.nan if bound is None or math.isinf(bound) else _sign(target) * bound
    return row


def _sentence(name: str, settings: list[dict[str, Any]], last: int | None) -> str:
    """The strongest setting of a sequence that is guaranteed."""
    swept = len({setting["treatment"] for setting in settings}) > 1
    varied = "treatment" if swept else "degradation"
    where = f"“{name}” after “{settings[0]['degradation']}”" if swept else f"“{name}”"
    chosen = settings[last or 0]
    count = (
        f"({chosen['passed']} of {chosen['of']} references meet the need, bound "
        f"{100 * chosen['bound']:.1f} %)"
    )
    if last is None:
        return f"{where}: not guaranteed, already at “{chosen[varied]}” {count}"
    rate = "" if math.isnan(chosen["bpp"]) else f" at {figure(chosen['bpp'])} bpp"
    one = "guaranteed" if len(settings) == 1 else (
        f"the strongest of {len(settings)} settings that is guaranteed")  # fmt: skip
    return f"{where}: “{chosen[varied]}”{rate} is {one} {count}"


def _promise(need: Need, references: int) -> list[str]:
    """The best promise that the number of references allows."""
    wanted = pictures_needed(need.share, need.confidence)
    if references >= wanted:
        return []
    best = lower_bound(references, references, need.confidence)
    return [
        f"{references} references can promise {100 * best:.1f} % at most, when all meet the need; "
        f"{100 * need.share:g} % takes {wanted}"
    ]


def excluded(rows: RunRows, need: Need) -> Iterator[str]:
    """Notes on rows that cannot meet a need: they failed, or have no value."""
    groups = [(rows.lost, "failed")]
    for target in need.targets:
        lacking = rows.frame[rows.frame[str(target.step)].astype(float).isna()]
        groups.append((lacking, f"have no {target.step}"))
    for group, reason in groups:
        if len(group):
            references = counted(group["reference"].nunique(), "reference")
            yield f"{counted(len(group), 'row')} of {references} {reason}, and do not meet the need"
