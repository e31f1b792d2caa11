"""The record of a blind test, and the answers of a rater, as they are written to JSON."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal, cast, get_args

from magnetite.core.errors import InputError

Design = Literal["pairs", "rating", "threshold"]
DESIGNS: tuple[Design, ...] = get_args(Design)
TEST_KIND, ANSWERS_KIND = "magnetite blind test", "magnetite answers"
#: Condition of a reference among the pictures that are judged.
REFERENCE = "reference"
#: Grades of the five-level impairment scale (Recommendation ITU-R BT.500-14, Annex 1).
GRADES = {
    5: "imperceptible", 4: "perceptible, but not annoying", 3: "slightly annoying",
    2: "annoying", 1: "very annoying",
}  # fmt: skip


@dataclass(frozen=True)
class Stimulus:
    """A picture of a test. The page holds its name only, so that raters are blind."""

    name: str
    #: Name of its reference, and the chain applied to it; `reference` for the reference itself.
    content: str
    condition: str
    #: Methods or degradation that the condition is a setting of; `reference` for the reference.
    kind: str
    #: SHA-256 of the samples as shown.
    digest: str
    #: Rms difference from the reference, dn of 8 bits.
    rms: float
    #: Value of the swept setting, and rate in bpp, where there are any.
    setting: float | None = None
    rate: float | None = None


@dataclass(frozen=True)
class BlindTest:
    """A blind test: its pictures and its questions."""

    design: Design
    stimuli: tuple[Stimulus, ...]
    #: Names of the pictures of each pair; empty for other designs.
    pairs: tuple[tuple[str, str], ...]
    #: How often each pair or picture is shown; trials of each threshold.
    repeats: int
    #: Whether "no difference" is an answer.
    ties: bool
    #: Screen px for each px of a picture, and px of a picture in a degree of visual angle.
    magnification: int
    pixels_per_degree: float
    width: int
    height: int

    @property
    def identity(self) -> str:
        """Digest of the whole test: answers carry it."""
        content = asdict(self)
        text = json.dumps(content, sort_keys=True, separators=(",", ":"))
        return hashlib.sha256(text.encode()).hexdigest()

    @property
    def contents(self) -> dict[str, tuple[Stimulus, ...]]:
        """Pictures by their reference."""
        names = dict.fromkeys(one.content for one in self.stimuli)
        return {name: tuple(one for one in self.stimuli if one.content == name) for name in names}

    @property
    def series(self) -> dict[tuple[str, str], list[Stimulus]]:
        """Pictures by reference and kind, the weakest change first; without the references."""
        found: dict[tuple[str, str], list[Stimulus]] = {}
        for one in self.stimuli:
            if one.rms > 0:
                found.setdefault((one.content, one.kind), []).append(one)
        return {key: sorted(group, key=lambda one: one.rms) for key, group in found.items()}

    def reference_of(self, stimulus: Stimulus) -> Stimulus | None:
        """The reference among the pictures, where it is one of them."""
        return next((o for o in self.contents[stimulus.content] if o.condition == REFERENCE), None)

    def as_record(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {"kind": TEST_KIND, "version": 1, "identity": self.identity} | asdict(self)

    @classmethod
    def of_record(cls, record: Mapping[str, Any]) -> BlindTest:
        """Read a record of `as_record`; `InputError` for anything else."""
        if record.get("kind") != TEST_KIND or record.get("version") != 1:
            raise InputError("not a blind test of this program: make one with ask")
        try:
            test = cls(
                design=record["design"],
                stimuli=tuple(Stimulus(**one) for one in record["stimuli"]),
                pairs=tuple((str(a), str(b)) for a, b in record["pairs"]),
                **{key: record[key] for key in (
                    "repeats", "ties", "magnification", "pixels_per_degree", "width", "height",
                )},
            )  # fmt: skip
            _check_test(test)
            identity = test.identity
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            words = f"{error.args[0]!r}" if isinstance(error, KeyError) else str(error)
            raise InputError(f"the blind test is damaged: {words}") from None
        if identity != record.get("identity"):
            raise InputError("the blind test was changed after it was made: its digest differs")
        return test


def _check_test(test: BlindTest) -> None:
    if test.design not in DESIGNS:
        raise ValueError(f"its design is {test.design!r}")
    names = [one.name for one in test.stimuli]
    if not names or len(set(names)) < len(names):
        raise ValueError("its pictures have no names of their own")
    for one in test.stimuli:
        texts = one.name, one.content, one.condition, one.kind, one.digest
        if not all(isinstance(text, str) for text in texts):
            raise ValueError("a picture has a name that is not text")
        for number in (one.rms, one.setting, one.rate):
            if number is not None:
                finite(number)
    if not {name for pair in test.pairs for name in pair} <= set(names):
        raise ValueError("a pair names a picture that is not there")
    for count in (test.repeats, test.magnification, test.width, test.height):
        if isinstance(count, bool) or not isinstance(count, int) or count < 1:
            raise ValueError(f"{count!r} is not a count")
    if not isinstance(test.ties, bool) or finite(test.pixels_per_degree) <= 0:
        raise ValueError("its settings are of another kind")


@dataclass(frozen=True)
class Trial:
    """One answer.

    For pairs and thresholds, `first` and `second` are the left and the right picture, and
    `answer` is left, right or tie. For a rating, `first` is the picture, and `answer` the grade.
    """

    first: str
    second: str
    answer: str


@dataclass(frozen=True)
class Answers:
    """The answers of one rater."""

    rater: str
    simulated: bool
    complete: bool
    trials: tuple[Trial, ...]
    #: Size of a screen px in mm, and viewing distance in mm, where they were stated.
    pixel: float | None = None
    distance: float | None = None

    @classmethod
    def of_record(cls, record: Mapping[str, Any], test: BlindTest) -> Answers:
        """Answers to a test, each checked.

        Raises
        ------
        InputError
            If they are damaged, or answers to another test.
        """
        if record.get("kind") != ANSWERS_KIND or record.get("version") != 1:
            raise InputError("not answers to a blind test of this program")
        if record.get("test") != test.identity:
            raise InputError("answers to another test")
        if record.get("pictures") != {one.name: one.digest for one in test.stimuli}:
            raise InputError("the pictures that were shown are not those of the test")
        trials, rater = record.get("trials"), record.get("rater")
        if not isinstance(trials, list) or not isinstance(rater, str):
            raise InputError("the answers are damaged: rater or trials are missing")
        checked = tuple(_trial(one, number, test) for number, one in enumerate(trials, 1))
        screen = record.get("screen")
        sizes = screen if isinstance(screen, dict) else {}
        return cls(
            rater, record.get("simulated") is True, record.get("complete") is True, checked,
            *(_size(sizes.get(key)) for key in ("pixel_mm", "distance_mm")),
        )  # fmt: skip


def answers_record(
    test: BlindTest, rater: str, trials: Sequence[Trial], *, simulated: bool
) -> dict[str, Any]:
    """Answers as plain values, as the page writes them."""
    return {
        "kind": ANSWERS_KIND, "version": 1, "test": test.identity, "design": test.design,
        "rater": rater, "simulated": simulated, "complete": True, "screen": {},
        "pictures": {one.name: one.digest for one in test.stimuli},
        "trials": [asdict(trial) for trial in trials],
    }  # fmt: skip


def _trial(entry: Any, number: int, test: BlindTest) -> Trial:
    keys = ("first", "second", "answer")
    if not isinstance(entry, dict) or not all(isinstance(entry.get(key), str) for key in keys):
        raise InputError(f"the answers are damaged: trial {number} lacks one of {', '.join(keys)}")
    trial = Trial(*(entry[key] for key in keys))
    names = {one.name for one in test.stimuli}
    known = {trial.first} if test.design == "rating" else {trial.first, trial.second}
    if not known <= names:
        raise InputError(f"the answers are damaged: trial {number} shows an unknown picture")
    if test.design == "pairs":
        pairs = {frozenset(pair) for pair in test.pairs}
        if frozenset(known) not in pairs:
            raise InputError(f"the answers are damaged: trial {number} is not a pair of the test")
    allowed = set(map(str, GRADES)) if test.design == "rating" else {"left", "right"}
    if test.design == "pairs" and test.ties:
        allowed.add("tie")
    if trial.answer not in allowed:
        raise InputError(
            f"the answers are damaged: trial {number} is answered {trial.answer!r}, not one "
            f"of {', '.join(sorted(allowed))}"
        )
    return trial


def _size(value: Any) -> float | None:
    try:
        return finite(value)
    except ValueError:
        return None


def finite(value: Any) -> float:
    """A number as float; `ValueError` for anything else."""
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise ValueError(f"{value!r} is not a number")
    number = float(cast(float, value))
    if not math.isfinite(number):
        raise ValueError("a number is not finite")
    return number
