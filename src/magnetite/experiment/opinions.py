"""Blind tests: answers of people and of simulated raters, read and judged."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from magnetite.core.errors import InputError, MagnetiteError
from magnetite.core.methods.declarations import Metric
from magnetite.core.operations.score import Scorer
from magnetite.core.operations.selection import selected
from magnetite.core.opinion.analysis import Opinions, analyse
from magnetite.core.opinion.raters import Crowd, simulated_answers, truth_of
from magnetite.core.opinion.record import Answers, BlindTest, Stimulus
from magnetite.core.opinion.scaling import Model
from magnetite.files.atomic import check_writable, inside, make_folder
from magnetite.files.reading import read
from magnetite.files.resources import DiskFiles
from magnetite.files.sidecar import read_json, write_json

#: Metric that simulated raters see, and rms difference in dn that they notice.
_SEEN, _NOTICED = "ssim", 3.0


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
    test: Path | str, answers: Path | str | Sequence[Path | str], *, model: Model | None = None
) -> Opinions:
    """Figures of a blind test: scale values, mean opinion scores or thresholds.

    Parameters
    ----------
    test : path
        Folder that `ask` wrote.
    answers : path or sequence of paths
        Files of answers, or folders of them.
    model : "thurstone" or "bradley-terry", optional
        Of pairs; "thurstone" if left out.

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
    by: str | None = None,
    threshold: float | None = None,
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
    by : str, optional
        Metric, higher for better pictures and finite for identical ones, that they see; ssim if
        left out. Not of thresholds.
    threshold : float, optional
        Of thresholds: rms difference, dn of 8 bits, that they notice; 3 if left out.
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
    if not 0 <= lapse <= 1 or (threshold is not None and threshold <= 0):
        raise InputError("a lapse is a share from 0 to 1, and a threshold above 0")
    loaded, source, target = read_test(Path(test)), Path(test), Path(folder)
    of_thresholds = loaded.design == "threshold"
    name, value = ("by", by) if of_thresholds else ("threshold", threshold)
    if value is not None:
        raise InputError(f"--{name} has no effect in a test of the design {loaded.design}")
    values: dict[str, float] = {}
    if not of_thresholds:
        by = by or _SEEN
        asked = selected(by, "metric").steps
        if len(asked) != 1 or asked[0].declared(Metric).better != "higher":
            raise InputError(f"{by}: name one metric that is higher for better pictures")
        quality = scores_of_test(loaded, source, by)[str(asked[0])]
        if not all(map(math.isfinite, quality.values())):
            raise InputError(f"{by}: is not finite for a reference; name another, such as ssim")
        values = truth_of(quality, loaded.design)
    crowd = Crowd(values, count, random, lapse, threshold or _NOTICED, seed)
    make_folder(target)
    written = []
    for record in simulated_answers(loaded, crowd):
        path = target / f"answers-{record['rater']}.json"
        check_writable(path)
        write_json(path, record)
        written.append(path)
    return written


def scores_of_test(test: BlindTest, folder: Path, metrics: str) -> dict[str, dict[str, float]]:
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


def check_grades(found: Opinions) -> None:
    """Raise `InputError` where opinions are not the grades that a gate takes."""
    if found.test.design != "rating":
        raise InputError("a gate takes grades: only a test of the design rating has them")
