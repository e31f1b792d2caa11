"""Answers to a blind test: read, judged, and compared with metrics of the same pictures."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.curves.comparison import Better
from magnetite.core.errors import InputError, MagnetiteError
from magnetite.core.gate.gate import Feature, Gate
from magnetite.core.methods.declarations import Metric
from magnetite.core.operations.score import Scorer
from magnetite.core.operations.selection import selected
from magnetite.core.opinion.agreement import LEAST, Agreement, agreement, steiger
from magnetite.core.opinion.analysis import Opinions, analyse
from magnetite.core.opinion.raters import Crowd, simulated_answers, truth_of
from magnetite.core.opinion.record import Answers, BlindTest, Stimulus
from magnetite.core.opinion.scaling import Model
from magnetite.core.quantities import counted
from magnetite.experiment.results import better_of
from magnetite.files.atomic import check_writable, inside, make_folder
from magnetite.files.reading import read
from magnetite.files.resources import DiskFiles
from magnetite.files.sidecar import read_json, write_json

#: Metrics that opinions are compared with unless others are named.
METRICS = "psnr,ssim,ms-ssim"


class AgreementRow(NamedTuple):
    """How well a metric follows opinions, after the mapping."""

    metric: str
    #: `all`, or the kind of degradation that the pictures have.
    of: str
    pictures: int
    pearson: float
    pearson_low: float
    pearson_high: float
    spearman: float
    spearman_low: float
    spearman_high: float
    rmse: float
    rmse_low: float
    rmse_high: float
    #: Chance of so large a difference from the best one, corrected for all comparisons (Holm).
    p: float | None


@dataclass(frozen=True)
class Compared:
    """Metrics against opinions."""

    agreements: dict[str, Agreement]
    rows: tuple[AgreementRow, ...]
    figures: dict[str, dict[str, float]]
    notes: tuple[str, ...]


def read_test(folder: Path) -> BlindTest:
    """The record of a test.

    Raises
    ------
    FileError
        If it is missing or no JSON.
    InputError
        If it is damaged, or its pictures are not those that were made.
    """
    record = read_json(folder / "test.json")
    try:
        return BlindTest.of_record(record)
    except InputError as error:
        raise InputError(f"{folder / 'test.json'}: {error}") from None


def read_answers(paths: Sequence[Path], test: BlindTest) -> list[Answers]:
    """Answers of files, or of folders of them, each checked.

    Raises
    ------
    InputError
        If a file holds no answers to this test; with its name.
    """
    files = [
        one for path in paths
        for one in (sorted(path.glob("*.json")) if path.is_dir() else [path])
    ]  # fmt: skip
    if not files:
        raise InputError(f"{paths[0]}: the folder holds no answers (.json)")
    made = []
    for path in files:
        record = read_json(path)
        try:
            made.append(Answers.of_record(record, test))
        except InputError as error:
            raise InputError(f"{path}: {error}") from None
    return made


def opinions(
    test: Path | str, answers: Path | str | Sequence[Path | str], *, model: Model = "thurstone"
) -> Opinions:
    """Figures of a blind test: scale values, mean opinion scores or thresholds.

    Parameters
    ----------
    test : path
        Folder that `ask` wrote.
    answers : path or sequence of paths
        Files of answers, or folders of them.
    model : "thurstone" or "bradley-terry"
        Of pairs.

    Raises
    ------
    FileError
        If a file is missing or damaged.
    InputError
        If answers belong to another test, or no rater is left.

    Examples
    --------
    >>> import magnetite
    >>> _ = magnetite.write(magnetite.scenes((160, 120))["clay-core"], "core.png")
    >>> _ = magnetite.ask("core.png", "test", design="pairs", steps="dct step=4dn,16dn,32dn")
    >>> _ = magnetite.raters("test", "answers", count=12)
    >>> found = magnetite.opinions("test", "answers")
    >>> found.simulated, len(found.values)
    (True, 4)
    """
    given = [answers] if isinstance(answers, str | Path) else list(answers)
    loaded = read_test(Path(test))
    return analyse(loaded, read_answers(list(map(Path, given)), loaded), model)


def raters(
    test: Path | str,
    folder: Path | str,
    *,
    count: int = 20,
    random: int = 0,
    lapse: float = 0.02,
    by: str = "ssim",
    threshold: float = 3.0,
    seed: int = 0,
) -> list[Path]:
    """Write the answers of simulated raters; each file says that they are.

    Parameters
    ----------
    test : path
        Folder that `ask` wrote.
    folder : path
        Gets a file for each rater.
    count : int
        Raters.
    random : int
        How many of them answer at random.
    lapse : float
        Chance that one of the others does so.
    by : str
        Metric, higher for better pictures and finite for identical ones, that they see.
    threshold : float
        Rms difference, dn of 8 bits, that they notice, for thresholds.
    seed : int
        Of all answers.

    Raises
    ------
    InputError
        If the numbers do not fit, or the metric cannot be used.

    Examples
    --------
    >>> import magnetite
    >>> _ = magnetite.write(magnetite.scenes((160, 120))["clay-core"], "core.png")
    >>> _ = magnetite.ask("core.png", "test", design="rating", steps="dct step=4dn,16dn")
    >>> [path.name for path in magnetite.raters("test", "answers", count=2, random=1)]
    ['answers-simulated-1.json', 'answers-random-2.json']
    """
    if not 0 <= random <= count or count < 1:
        raise InputError(f"{random} of {count} raters at random: from 0 to all of at least one")
    if not 0 <= lapse <= 1 or threshold <= 0:
        raise InputError("a lapse is a share from 0 to 1, and a threshold above 0")
    loaded, source, target = read_test(Path(test)), Path(test), Path(folder)
    values: dict[str, float] = {}
    if loaded.design != "threshold":
        asked = selected(by, "metric").steps
        if len(asked) != 1 or asked[0].declared(Metric).better != "higher":
            raise InputError(f"{by}: name one metric that is higher for better pictures")
        quality = _scores(loaded, source, by)[str(asked[0])]
        if not all(map(math.isfinite, quality.values())):
            raise InputError(f"{by}: is not finite for a reference; name another, such as ssim")
        values = truth_of(quality, loaded.design)
    crowd = Crowd(values, count, random, lapse, threshold, seed)
    make_folder(target)
    written = []
    for record in simulated_answers(loaded, crowd):
        path = target / f"answers-{record['rater']}.json"
        check_writable(path)
        write_json(path, record)
        written.append(path)
    return written


def compared(found: Opinions, folder: Path, metrics: str = METRICS) -> Compared:
    """How metrics of the pictures follow the opinions on them.

    Raises
    ------
    InputError
        If the test has no values of pictures, or fewer than six with finite figures.
    """
    if not found.values:
        raise InputError(f"a test of {found.test.design} has no value for each picture to compare")
    figures = _scores(found.test, folder, metrics)
    agreements, rows, notes = _agreements(found, figures, "all", list(found.values))
    if not agreements:
        raise InputError("no metric can be compared: " + "; ".join(notes))
    kinds: dict[str, list[str]] = {}
    for one in found.test.stimuli:
        if one.name in found.values:
            kinds.setdefault(one.kind, []).append(one.name)
    for kind, names in kinds.items():
        if len(kinds) > 1 and len(names) >= LEAST:
            rows += _agreements(found, figures, kind, names)[1]
    return Compared(agreements, tuple(rows), figures, tuple(notes))


def _agreements(
    found: Opinions, figures: dict[str, dict[str, float]], of: str, names: Sequence[str]
) -> tuple[dict[str, Agreement], list[AgreementRow], list[str]]:
    """Each metric against the opinions on some pictures, and notes on those left out."""
    agreements: dict[str, Agreement] = {}
    used: dict[str, list[str]] = {}
    notes = []
    for name, values in figures.items():
        kept = [k for k in names if math.isfinite(values.get(k, math.nan))]
        lost = len(names) - len(kept)
        if lost:
            notes.append(f"{name}: {counted(lost, 'picture')} without a finite figure left out")
        if len(kept) < LEAST:
            notes.append(f"{name}: {counted(len(kept), 'picture')}, and a mapping takes {LEAST}")
            continue
        x, y = np.array([[values[k], found.values[k].value] for k in kept]).T
        if same := [words for words, v in (("figures", x), ("opinions", y)) if np.ptp(v) == 0]:
            notes.append(f"{name}: the {same[0]} of all {len(kept)} pictures are the same")
            continue
        better: Better = "higher" if better_of(name) == "higher" else "lower"
        agreements[name], used[name] = agreement(x, y, better), kept
    if not agreements:
        return {}, [], notes
    best = max(agreements, key=lambda name: agreements[name].pearson.value)
    chances = {
        name: _difference(found, agreements, used, name, best)
        for name in agreements if name != best
    }  # fmt: skip
    corrected = _holm(chances)
    rows = [
        AgreementRow(
            name, of, len(used[name]), *_ends(one.pearson), *_ends(one.spearman), *_ends(one.rmse),
            corrected.get(name),
        )
        for name, one in agreements.items()
    ]  # fmt: skip
    return agreements, rows, notes


def gate_of(found: Opinions, made: Compared, metric: str, least: float) -> Gate:
    """A gate that accepts pictures of which people would give a grade or more, by one metric.

    Its value is the grade that the mapping predicts near the threshold.

    Raises
    ------
    InputError
        If the test has no grades, the metric was not compared, or the mapping does not reach the
        grade.
    """
    from magnetite import __version__

    check_grades(found)
    if metric not in made.agreements:
        raise InputError(f"{metric!r} was not compared; there are: {', '.join(made.agreements)}")
    mapping = made.agreements[metric].mapping
    cut = mapping.inverse(least)
    if cut is None:
        raise InputError(
            f"{metric} predicts {min(mapping.low, mapping.high):.3g} to "
            f"{max(mapping.low, mapping.high):.3g}: {least:g} is not among it"
        )
    values = np.array([v for v in made.figures[metric].values() if math.isfinite(v)])
    mean, sd = float(values.mean()), float(values.std()) or 1.0
    slope = mapping.slope(cut)
    feature = Feature(
        metric, "metric", mean, sd, slope * sd, float(values.min()), float(values.max())
    )
    facts = {
        "pictures": int(values.size), "references": len(found.test.contents),
        "raters": len(found.raters), "simulated": found.simulated,
    }  # fmt: skip
    return Gate((feature,), least + slope * (mean - cut), least, True, facts, __version__)


def check_grades(found: Opinions) -> None:
    """Raise `InputError` where opinions are not the grades that a gate takes."""
    if found.test.design != "rating":
        raise InputError("a gate takes grades: only a test of the design rating has them")


def _scores(test: BlindTest, folder: Path, metrics: str) -> dict[str, dict[str, float]]:
    """Figures of each picture against its reference, by metric and picture."""
    asked = selected(metrics, "metric")
    made: dict[str, dict[str, float]] = {label: {} for label in asked.labels}
    for stimuli in test.contents.values():
        reference = test.reference_of(stimuli[0])
        if reference is None:
            continue
        scorer = Scorer(_picture(folder, reference), files=DiskFiles())
        for one in stimuli:
            scores = scorer.score(_picture(folder, one), asked)
            for name, value in scores.items():
                made[name][one.name] = float(value)
    return made


def _picture(folder: Path, one: Stimulus) -> Any:
    try:
        picture = read(inside(folder / "pictures", f"{one.name}.png"))
    except MagnetiteError as error:
        raise InputError(f"a picture of the test cannot be used: {error}") from None
    if picture.digest().hex() != one.digest:
        raise InputError(f"{folder}/pictures/{one.name}.png: has changed since the test was made")
    return picture


def _difference(
    found: Opinions,
    agreements: dict[str, Agreement],
    used: dict[str, list[str]],
    name: str,
    best: str,
) -> float:
    """Chance of the difference of two metrics, on the pictures that both have."""
    both = [k for k in used[name] if k in used[best]]
    if len(both) < LEAST:
        return math.nan

    def predicted(metric: str) -> Float64:
        own = dict(zip(used[metric], agreements[metric].predicted, strict=True))
        return np.array([own[k] for k in both])

    return steiger(
        predicted(name), predicted(best), np.array([found.values[k].value for k in both])
    )


def _holm(chances: dict[str, float]) -> dict[str, float]:
    """Chances corrected for all comparisons (Holm, Scandinavian J. Statistics 6(2), 1979)."""
    known = [name for name, chance in chances.items() if not math.isnan(chance)]
    order = sorted(known, key=lambda name: chances[name])
    corrected, largest = {}, 0.0
    for k, name in enumerate(order):
        largest = max(largest, min(1.0, (len(order) - k) * chances[name]))
        corrected[name] = largest
    return corrected


def _ends(estimate: Any) -> tuple[float, float, float]:
    return estimate.value, estimate.low, estimate.high
