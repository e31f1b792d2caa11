"""A second computation of every table of a run, from bare rows and the published definitions.

Nothing of the program's summaries, pages or gates is used: rows are dicts, and Student's law,
Hall's transformation, ranks and the interpolation of curves come from SciPy or from here.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from functools import cache
from itertools import combinations
from typing import Any

import numpy as np
from scipy import stats
from scipy.interpolate import PchipInterpolator

Row = dict[str, Any]
LOWER = {"mse"}


def picture(row: Row) -> tuple[str, str, int]:
    return row["reference"], row["degradation"], row["repeat"]


def label(row: Row, rows: list[Row]) -> str:
    name, chain = row["treatment name"], row["treatment"]
    alone = all(r["treatment"] == chain for r in rows if r["treatment name"] == name)
    if alone or chain == "nothing":
        return str(name)
    return str(chain if chain.startswith(name) else f"{name}: {chain}")


def mean_interval(values: list[float]) -> tuple[float, float, float]:
    """Student's; Hall's where D'Agostino's test finds at least eight values skewed."""
    mean, n = float(np.mean(values)), len(values)
    if n < 2 or not np.isfinite(values).all():
        return mean, math.nan, math.nan
    sd = float(np.std(values, ddof=1))
    ends = stats.t.ppf([0.025, 0.975], n - 1) / math.sqrt(n)
    if n >= 8 and sd > 0 and stats.skewtest(values).pvalue < 0.05:
        g = float(stats.skew(values, bias=False))
        # Hall: u + g u²/3 + g² u³/27 + g/(6 n) has Student's law; solved for u.
        ends = [
            min(np.roots([g**2 / 27, g / 3, 1, g / (6 * n) - t]), key=lambda z: abs(z.imag)).real
            for t in ends
        ]
    return mean, mean - ends[1] * sd, mean - ends[0] * sd


def nested(rows: list[Row], figure: str) -> tuple[tuple[float, float, float], int, int] | None:
    groups: dict[str, list[float]] = {}
    for row in rows:
        if not math.isnan(row[figure]):
            groups.setdefault(row["reference"], []).append(row[figure])
    if not groups:
        return None
    count = sum(map(len, groups.values()))
    own = list(groups.values())
    values = own[0] if len(own) == 1 else [float(np.mean(v)) for v in own]
    return mean_interval(values), len(own), count


@cache
def critical(n: int, k: int, pairwise: bool) -> float:
    """95 % point of the largest |t| over all contrasts, from whole samples of normal values."""
    rng = np.random.default_rng(99)
    values = rng.standard_normal((4_000, n, k))
    pairs = list(combinations(range(k), 2))
    contrasts = [values[..., a] - values[..., b] for a, b in pairs] if pairwise else [
        values[..., a] for a in range(k)]  # fmt: skip
    largest = np.zeros(len(values))
    for one in contrasts:
        spread = one.std(axis=1, ddof=1) / math.sqrt(n)
        np.maximum(largest, np.abs(one.mean(axis=1)) / spread, out=largest)
    return float(np.quantile(largest, 0.95))


def difference(values: list[float], factor: float) -> tuple[float, float, float]:
    mean = float(np.mean(values))
    if len(values) < 2:
        return mean, math.nan, math.nan
    reach = factor * float(np.std(values, ddof=1)) / math.sqrt(len(values))
    return mean, mean - reach, mean + reach


def complete(
    table: dict[str, dict[Any, float]], failed: dict[str, set[Any]]
) -> tuple[list[Any], list[str], dict[str, float]]:
    """Keys at which all columns that are compared are finite, those columns, infinite ones."""
    kept, infinite = [], {}
    for name, own in table.items():
        values = {v for v in own.values() if not math.isnan(v)}
        lost, known = len(failed.get(name, ())), sum(not math.isnan(v) for v in own.values())
        if lost > (lost + known) / 2 or not values:
            continue
        if len(values) == 1 and math.isinf(next(iter(values))):
            infinite[name] = next(iter(values))
        else:
            kept.append(name)

    def finite(name: str) -> set[Any]:
        return {key for key, value in table[name].items() if math.isfinite(value)}

    while len(kept) > 1 and not set.intersection(*map(finite, kept)):
        fewest = min(reversed(kept), key=lambda name: len(finite(name)))
        kept.remove(fewest)
    keys = set.intersection(*map(finite, kept)) if kept else set()
    return sorted(keys), kept, infinite


def by_reference(keys: list[Any], values: dict[Any, float]) -> list[float]:
    references = list(dict.fromkeys(key[0] for key in keys))
    return [float(np.mean([values[k] for k in keys if k[0] == r])) for r in references]


class Ranked:
    """The ranking of a group of rows: means, differences from the best, rows, left out."""

    def __init__(self, rows: list[Row], every: list[Row], metric: str) -> None:
        table: dict[str, dict[Any, float]] = {}
        failed: dict[str, set[Any]] = {}
        for row in rows:
            if row["status"] == "done":
                table.setdefault(label(row, every), {})[picture(row)] = row[metric]
        for row in rows:
            if row["status"] == "failed":
                failed.setdefault(label(row, every), set()).add(picture(row))
        self.keys, kept, self.infinite = complete(table, failed)
        means = {name: by_reference(self.keys, table[name]) for name in kept}
        sign = 1 if metric in LOWER else -1
        self.order = sorted(kept, key=lambda name: sign * float(np.mean(means[name]))) if (
            self.keys) else []  # fmt: skip
        self.means = {name: float(np.mean(means[name])) for name in self.order}
        self.references = len({key[0] for key in self.keys})
        self.against: dict[str, tuple[float, float, float]] = {}
        if len(self.order) > 1:
            n, k = self.references, len(self.order)
            factor = math.nan if n < 2 else stats.t.ppf(0.975, n - 1) if k == 2 else (
                critical(n, k, True))  # fmt: skip
            for name in self.order[1:]:
                own = np.subtract(means[name], means[self.order[0]]).tolist()
                self.against[name] = difference(own, factor)
        self.apart = {*table, *failed} - set(self.order) - set(self.infinite)


def pchip_gap(
    anchor: list[tuple[float, float]], test: list[tuple[float, float]], sign: int, over: str
) -> float | None:
    """Mean gap of log rate over score, or of score over log rate; None below 30 % overlap."""

    def axes(points: list[tuple[float, float]]) -> tuple[list[float], list[float]] | None:
        distinct = sorted(dict(sorted((r, sign * q) for r, q in points)).items())
        if over == "rate":
            if len(distinct) < 4:
                return None
            return [math.log(r) for r, _ in distinct], [q for _, q in distinct]
        rising: list[tuple[float, float]] = []
        for rate, quality in distinct:
            if not rising or quality > max(q for _, q in rising):
                rising.append((rate, quality))
        if len(rising) < 4:
            return None
        return [q for _, q in rising], [math.log(r) for r, _ in rising]

    one, two = axes(anchor), axes(test)
    if one is None or two is None:
        return None
    low, high = max(one[0][0], two[0][0]), min(one[0][-1], two[0][-1])
    smaller = min(one[0][-1] - one[0][0], two[0][-1] - two[0][0])
    if high - low < 0.3 * smaller:
        return None
    areas = [PchipInterpolator(*axis).integrate(low, high) for axis in (one, two)]
    gap = float(areas[1] - areas[0]) / (high - low)
    return gap if over == "quality" else sign * gap


class Rates:
    """BD-rates and gains of a group of rows against its first curve, with their intervals."""

    def __init__(self, rows: list[Row], every: list[Row], metric: str) -> None:
        sign = -1 if metric in LOWER else 1
        done = [r for r in rows if r["status"] == "done" and not math.isnan(r[metric])]
        coded = [r for r in done if not math.isnan(r["bpp"])]
        families: dict[str, set[str]] = {}
        for row in coded:
            families.setdefault(row["treatment name"], set()).add(self.family(row))
        curves: dict[str, dict[Any, list[tuple[float, float]]]] = {}
        for name, own in families.items():
            members = [r for r in coded if r["treatment name"] == name]
            for family in dict.fromkeys(map(self.family, members)):
                title = name if len(own) == 1 else f"{name}: {family}"
                found: dict[Any, list[tuple[float, float]]] = {}
                for row in members:
                    if self.family(row) == family and math.isfinite(row[metric]):
                        found.setdefault(picture(row), []).append((row["bpp"], row[metric]))
                found = {key: points for key, points in found.items() if len(points) >= 4}
                if found:
                    curves[title] = found
        self.names = list(curves)
        gaps: dict[str, dict[Any, float]] = {name: {} for name in self.names[1:]}
        gains: dict[str, dict[Any, float]] = {name: {} for name in self.names[1:]}
        for name in self.names[1:]:
            for key in curves[self.names[0]]:
                if key in curves[name]:
                    pair = curves[self.names[0]][key], curves[name][key]
                    for table, over in ((gaps, "quality"), (gains, "rate")):
                        gap = pchip_gap(*pair, sign, over)
                        if gap is not None:
                            table[name][key] = gap
        self.rate, self.compared, self.rate_references = self.summed(gaps)
        self.gain, self.curves, self.references = self.summed(gains)

    @staticmethod
    def family(row: Row) -> str:
        return re.sub(r" step=\S+", "", row["treatment"])

    @staticmethod
    def summed(table: dict[str, dict[Any, float]]) -> tuple[dict[str, tuple[float, ...]], int, int]:
        keys, kept, _ = complete(table, {})
        if not keys:
            return {}, 0, 0
        n, k = len({key[0] for key in keys}), len(kept)
        factor = math.nan if n < 2 else stats.t.ppf(0.975, n - 1) if k == 1 else (
            critical(n, k, False))  # fmt: skip
        found = {name: difference(by_reference(keys, table[name]), factor) for name in kept}
        return found, len(keys), n


def hardest(rows: list[Row], every: list[Row], metric: str) -> tuple[dict[str, float], int]:
    """Mean of each reference over the rows that all references have."""
    table: dict[str, dict[Any, float]] = {}
    failed: dict[str, set[Any]] = {}
    for row in rows:
        key = row["degradation"], row["repeat"], label(row, every)
        if row["status"] == "done":
            table.setdefault(row["reference"], {})[key] = row[metric]
        else:
            failed.setdefault(row["reference"], set()).add(key)
    keys, kept, _ = complete(table, failed)
    return {r: float(np.mean([table[r][k] for k in keys])) for r in kept if keys}, len(keys)


def agreement(rows: list[Row], one: str, two: str) -> tuple[float, float, int] | None:
    """Mean and least rank correlation within references, signed by preference."""
    sign = 1 if (one in LOWER) == (two in LOWER) else -1
    found = []
    for reference in dict.fromkeys(r["reference"] for r in rows):
        pairs = [(r[one], r[two]) for r in rows if r["reference"] == reference]
        pairs = [p for p in pairs if not any(map(math.isnan, p))]
        if len(pairs) > 2 and all(len({p[k] for p in pairs}) > 1 for k in (0, 1)):
            # Ranks first: the library's own correlation takes no infinite values.
            ranks = [stats.rankdata([p[k] for p in pairs]) for k in (0, 1)]
            found.append(sign * float(stats.pearsonr(*ranks).statistic))
    return (float(np.mean(found)), min(found), len(found)) if found else None


def median_cost(every: list[Row]) -> dict[str, float]:
    """Over the degraded pictures that all treatments have."""
    costs: dict[str, dict[Any, float]] = {}
    failed: dict[str, set[Any]] = {}
    for row in every:
        if row["treatment"] == "nothing":
            continue
        if row["status"] == "done":
            megapixels = row["width"] * row["height"] / 1e6
            own = costs.setdefault(label(row, every), {})
            own[picture(row)] = row["seconds treat"] / megapixels
        else:
            failed.setdefault(label(row, every), set()).add(picture(row))
    keys, kept, _ = complete(costs, failed)
    return {name: float(np.median([costs[name][k] for k in keys])) if name in kept and keys
            else math.nan for name in costs}  # fmt: skip


def sensitivity(rows: list[Row], figure: str) -> tuple[float, float, float, int] | None:
    """Change per level, spread, mean rank correlation and references of one degradation's rows,
    over the references and repeats that have all levels.
    """
    table: dict[str, dict[Any, float]] = {}
    failed: dict[str, set[Any]] = {}
    for row in rows:
        key = row["reference"], row["repeat"]
        if row["status"] == "done":
            table.setdefault(row["degradation"], {})[key] = row[figure]
        else:
            failed.setdefault(row["degradation"], set()).add(key)
    keys, complete_levels, _ = complete(table, failed)
    levels = list(dict.fromkeys(row["degradation"] for row in rows))  # those of failed rows too
    if len(table) < 2 or set(levels) != set(complete_levels) or not keys:
        return None
    changes, ranks, variances = [], [], []
    for reference in dict.fromkeys(key[0] for key in keys):
        cells = [[table[level][k] for k in keys if k[0] == reference] for level in levels]
        own = [float(np.mean(cell)) for cell in cells]
        changes.append((own[-1] - own[0]) / (len(levels) - 1))
        constant = len(set(own)) == 1
        ranks.append(0.0 if constant else float(stats.spearmanr(range(len(own)), own).statistic))
        variances += [float(np.var(cell, ddof=1)) for cell in cells if len(cell) > 1]
    if variances:
        spread = math.sqrt(float(np.mean(variances)))
    else:
        spread = float(np.std(changes, ddof=1)) if len(changes) > 1 else math.nan
    return float(np.mean(changes)), spread, float(np.mean(ranks)), len(changes)


def reasons(rows: list[Row]) -> Counter[str]:
    return Counter(r["reason"] for r in rows if r["status"] == "failed")


def curve_points(
    rows: list[Row], every: list[Row], across: str | None
) -> tuple[dict[str, list[list[float]]], int]:
    """Points of each line: psnr over a column, or over the level; and the references of all."""
    levels = list(dict.fromkeys(r["degradation"] for r in rows if r["status"] == "done"))
    table: dict[tuple[str, str], dict[str, list[tuple[float, float]]]] = {}
    for row in rows:
        if row["status"] != "done" or (across and math.isnan(row[across])):
            continue
        name, chain = row["treatment name"], row["treatment"]
        chains = {r["treatment"] for r in every
                  if r["treatment name"] == name and r["status"] == "done"}  # fmt: skip
        families = {Rates.family({"treatment": c}) for c in chains}
        if not across:
            name = label(row, every)
        elif len(families) not in (1, len(chains)):
            name = f"{name}: {Rates.family(row)}"
        if across and len(levels) > 1:
            name = f"{name} · {row['degradation']}"
        x = row[across] if across else float(levels.index(row["degradation"]))
        key = (name, f"{row['degradation']}\n{chain}" if across else row["degradation"])
        table.setdefault(key, {}).setdefault(row["reference"], []).append((x, row["psnr"]))
    finite = {
        key: own
        for key, own in table.items()
        if all(math.isfinite(v) for rows in own.values() for pair in rows for v in pair)
    }
    references = {r for own in finite.values() for r in own}
    for own in finite.values():
        most = max(map(len, own.values()))
        references &= {r for r, pairs in own.items() if len(pairs) == most}
    lines: dict[str, list[list[float]]] = {}
    for (name, _), own in finite.items():
        means = [np.mean(own[r], axis=0) for r in sorted(references)]
        if means:
            lines.setdefault(name, []).append(np.mean(means, axis=0).tolist())
    return {name: sorted(points) for name, points in lines.items()}, len(references)
