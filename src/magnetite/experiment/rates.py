"""Treatments with a sweep of rates against the first of them, on the same pictures."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

import numpy as np
import pandas as pd

from magnetite.core.analysis.simultaneous import Difference, simultaneous
from magnetite.core.chain.notation import parse_sweep
from magnetite.core.chain.step import Chain
from magnetite.core.curves.comparison import Better, Comparison, compare
from magnetite.core.errors import ChainError
from magnetite.core.methods.caching import follows_declarations
from magnetite.core.methods.declarations import Codec
from magnetite.core.quantities import counted
from magnetite.experiment.common import PICTURE, complete, wide
from magnetite.experiment.results import GROUPS, RunRows, RunTable, better_of

#: Points that a rate-distortion curve needs.
LEAST_POINTS = 4
#: Rate and score of the points of one picture.
Points = tuple[tuple[float, float], ...]


@dataclass
class RateCurves:
    """The curves of each treatment by picture, and the treatments without curves."""

    curves: dict[str, dict[tuple[Any, ...], Points]] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    #: Labels of treatments that code nothing, with their mean score over the pictures that all of
    #: them have; and the number of these.
    uncoded: dict[str, float] = field(default_factory=dict)
    uncoded_pictures: int = 0


def rates(rows: RunRows, metric: str, by: list[str] | None = None) -> RunTable | None:
    """Each treatment with a sweep of rates against the first of them.

    Rate at equal score (BD-rate) as far as the curves share scores, and score at equal rate as
    far as they share rates, each over the pictures that all treatments have. Intervals are over
    references and hold together for all treatments; those of rates are computed in the logarithm.

    Parameters
    ----------
    rows : RunRows
    metric : str
    by : list of str, optional
        Of `GROUPS`: a comparison for each group. Names of treatments among them do not group.

    Returns
    -------
    RunTable or None
        None where no group has two treatments with curves.
    """
    groups = [name for name in by or () if name not in ("treatment", "treatments")]
    made: list[tuple[Any, ...]] = []
    notes: list[str] = []
    for key, part in rows.split([GROUPS[name] for name in groups]):
        lines, own = _rates(part, metric)
        made += [(*key, *line) for line in lines]
        where = f"{', '.join(map(str, key))}: " if key else ""
        notes += [f"{where}{note}" for note in own] if lines else []
    if not made:
        return None
    titles = [*groups, "against", "treatment", "BD-rate %", "95 % from", "to", "compared",
              "gain", "gain 95 % from", "gain to", "curves", "p"]  # fmt: skip
    return RunTable(
        "rates", f"Rates at equal {metric}", pd.DataFrame(made, columns=titles),
        "BD-rate: below 0 is less rate, a geometric mean; gain: "
        f"{metric} at equal rate; compared, curves: degraded pictures that both means are over; "
        "intervals over references, and p of the gain, hold together for all treatments",
        tuple(notes),
    )  # fmt: skip


def _rates(rows: RunRows, metric: str) -> tuple[list[tuple[Any, ...]], list[str]]:
    """Rows of the table without groups, and notes on the rows left out."""
    found = rate_curves(rows, metric)
    names = list(found.curves)
    better: Better = "higher" if better_of(metric) == "higher" else "lower"
    if len(names) < 2:
        return [], []
    gaps, gains, disagreeing = _compared(found.curves, better)
    saved, gained = complete(gaps), complete(gains)
    notes = [*found.notes, *(f"gain: {n}" for n in gained.notes()),
             *(f"BD-rate: {n}" for n in saved.notes())]  # fmt: skip
    if disagreeing:
        notes.append(
            f"BD-rate: interpolations differ by more than 5 % on {disagreeing} of "
            f"{int(gaps.notna().to_numpy().sum())} pairs of curves: measure more points"
        )
    by_rate, by_gain = _differences(saved.values), _differences(gained.values)
    made = []
    for name in names[1:]:
        if name not in by_rate and name not in by_gain:
            continue
        rate = [100 * math.expm1(v) for v in by_rate.get(name, _NONE)[:3]]
        counts = [len(c.values) if name in c.values else 0 for c in (saved, gained)]
        gain = by_gain.get(name, _NONE)
        made.append((names[0], name, *rate, counts[0], *gain[:3], counts[1], gain.p))
    return made, notes


_NONE = Difference(math.nan, math.nan, math.nan, math.nan)


def _compared(
    curves: dict[str, dict[tuple[Any, ...], Points]], better: Better
) -> tuple[Any, Any, int]:
    """Gaps of log rate and gains of score against the first treatment, picture by picture.

    Also on how many pairs of curves interpolations disagree.
    """
    disagreeing = 0
    names = list(curves)
    pictures = list(dict.fromkeys(key for own in curves.values() for key in own))
    index = pd.MultiIndex.from_tuples(pictures, names=PICTURE)
    gaps, gains = (np.full((len(pictures), len(names) - 1), math.nan) for _ in range(2))
    for column, name in enumerate(names[1:]):
        for row, picture in enumerate(pictures):
            if picture not in curves[names[0]] or picture not in curves[name]:
                continue
            one = _comparison(curves[names[0]][picture], curves[name][picture], better)
            if one.bd_rate is not None:
                gaps[row, column] = math.log1p(one.bd_rate)
                disagreeing += bool(one.remark)
            if one.bd_quality is not None:
                gains[row, column] = one.bd_quality
    by_name = [pd.DataFrame(values, index, names[1:]) for values in (gaps, gains)]
    return by_name[0], by_name[1], disagreeing


@lru_cache(maxsize=16384)
def _comparison(anchor: Points, test: Points, better: Better) -> Comparison:
    """Two curves compared once, though several tables ask for it."""
    return compare(anchor, test, better)


def _differences(values: Any) -> dict[str, Difference]:
    """Mean and interval of each column over references; no interval for a single one."""
    if values.empty or not values.shape[1]:
        return {}
    means = values.groupby(level="reference", sort=False).mean()
    names = [str(name) for name in values.columns]
    return dict(zip(names, simultaneous(means.to_numpy(), np.eye(len(names))), strict=True))


def rate_curves(rows: RunRows, metric: str) -> RateCurves:
    """The rate-distortion curves of a run: for each treatment, one for each degraded picture.

    A treatment that sweeps another setting besides the codec's quality has a curve for each of its
    values.
    """
    made = RateCurves()
    frame = rows.in_order("label")
    frame = frame[frame[metric].notna()]
    coded = frame[frame["bpp"].notna()]
    plain = frame[frame["bpp"].isna()]
    if len(plain):
        common = complete(wide(plain, metric, "label", PICTURE))
        means = common.values.groupby(level="reference").mean().mean().to_dict() | common.infinite
        made.uncoded = {name: means.get(name, math.nan) for name in plain["label"].unique()}
        made.uncoded_pictures = len(common.values)
    short: Counter[str] = Counter()
    endless = int(np.isinf(coded[metric].astype(float)).sum())
    for name, by_name in coded.groupby("treatment name", sort=False):
        for label, own in by_name.groupby(curve_labels(by_name), sort=False):
            for picture, points in _by_picture(own, metric).items():
                if len(points) < LEAST_POINTS:
                    short[str(name)] += 1
                    continue
                made.curves.setdefault(label, {})[picture] = points
    made.notes += [
        f"“{label}”: {count} curve{'s' if count > 1 else ''} of fewer than {LEAST_POINTS} points "
        "left out" for label, count in short.items()
    ]  # fmt: skip
    if endless:
        made.notes.append(f"{counted(endless, 'point')} of infinite {metric} left out")
    return made


def curve_labels(rows: Any) -> Any:
    """Name of the curve that each row is a point of: its treatment's, with the settings that the
    points share where the treatment has several curves.
    """
    families = rows["treatment"].map(family_of)
    names = rows["treatment name"].astype(str)
    several = families.groupby(names).transform("nunique") > 1
    return names.where(~several, names + ": " + families)


def _by_picture(own: Any, metric: str) -> dict[tuple[Any, ...], Points]:
    """Finite points of each picture, by rising rate."""
    found: dict[tuple[Any, ...], list[tuple[float, float]]] = {}
    columns = [*PICTURE, "bpp", metric]
    for *picture, bpp, score in own[columns].itertuples(index=False, name=None):
        points = found.setdefault(tuple(picture), [])
        if math.isfinite(score):
            points.append((float(bpp), float(score)))
    return {picture: tuple(sorted(set(points))) for picture, points in found.items()}


@follows_declarations
@lru_cache(maxsize=4096)
def family_of(chain: str) -> str:
    """A chain without the quality of its last codec: the settings that a curve's points share.

    Empty where the chain cannot be read here, as of a codec that this process does not have.
    """
    try:
        steps = parse_sweep(chain, "restoration", "codec", known=True)[0].steps
    except ChainError:
        return ""
    positions = [k for k, step in enumerate(steps) if step.kind == "codec"]
    if not positions:
        return chain
    step = steps[positions[-1]]
    codec = step.declared(Codec)
    dropped = {codec.quality, *codec.one_of}
    bare = replace(step, settings=tuple(s for s in step.settings if s[0] not in dropped))
    return str(Chain((*steps[: positions[-1]], bare, *steps[positions[-1] + 1 :])))
