"""Blind tests: their pictures, and the one page that asks raters."""

from __future__ import annotations

import base64
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from magnetite.core.chain.notation import parse_sweep
from magnetite.core.chain.step import Chain
from magnetite.core.convert.depth import depth
from magnetite.core.convert.size import middle
from magnetite.core.errors import FileError, InputError, check_choice
from magnetite.core.metrics.error import rmse
from magnetite.core.operations.degrade import KINDS, degrade
from magnetite.core.opinion.design import pairs_of
from magnetite.core.opinion.record import DESIGNS, GRADES, REFERENCE, BlindTest, Design, Stimulus
from magnetite.core.opinion.threshold import GRID, GUESS, LAPSE, MARGIN, SLOPE, TELLS_MOST
from magnetite.core.picture import Picture
from magnetite.core.picture.matching import check_distinct
from magnetite.files.atomic import make_folder
from magnetite.files.reading import read
from magnetite.files.resources import DiskFiles
from magnetite.files.sidecar import read_json, write_json
from magnetite.files.writing import encoded, write
from magnetite.pages.content import run_gallery
from magnetite.pages.page import asset, environment, safe_json

#: Files of a test's folder.
PAGE, RECORD, PICTURES = "ask.html", "test.json", "pictures"
#: Answers that a rater gives between two breaks, and trials of the training.
_BREAK, _TRAINING = 40, 3


@dataclass(frozen=True)
class Asked:
    """A blind test that was written."""

    test: BlindTest
    folder: Path
    #: Bytes of the page.
    size: int
    #: Answers that a rater gives.
    answers: int
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Shown:
    """A picture that is to be judged, before it has a name."""

    content: str
    condition: str
    kind: str
    picture: Picture
    rms: float
    setting: float | None = None
    rate: float | None = None


def ask(
    sources: Path | str | Sequence[Path | str],
    folder: Path | str,
    *,
    design: Design = "pairs",
    steps: str | Sequence[str] = (),
    size: tuple[int, int] = (480, 360),
    repeats: int | None = None,
    pairs: int | None = None,
    ties: bool = False,
    with_reference: bool = False,
    magnification: int = 1,
    pixels_per_degree: float = 60.0,
    seed: int = 0,
) -> Asked:
    """Write a blind test: a page that asks raters, its record and its pictures.

    Parameters
    ----------
    sources : path or sequence of paths
        Reference pictures, to which `steps` are applied; or the folder of a run.
    folder : path
        Gets `ask.html`, the page to send; `test.json`, the record, which says which picture is
        which; and `pictures`.
    design : "pairs", "rating" or "threshold"
        Pairs (two alternatives, forced), the five-level impairment scale with hidden references,
        or the threshold at which a difference is noticed.
    steps : str or sequence of str
        Chains with swept settings, such as `jpeg quality=10,30,60`, for reference pictures.
    size : (int, int)
        Width and height at most, px; the middle of larger pictures is shown.
    repeats : int, optional
        How often a pair (2), a picture (1), or trials of a threshold (40).
    pairs : int, optional
        Pairs of each reference at most; all if left out.
    ties : bool
        Whether "no difference" is an answer to a pair.
    with_reference : bool
        Whether the reference is shown between the pictures of a pair.
    magnification : int
        Screen px for each px of a picture.
    pixels_per_degree : float
        Px of a picture in one degree of visual angle: it gives the viewing distance.
    seed : int
        Of the degradations, and of the pictures' names.

    Raises
    ------
    InputError
        If the pictures and steps do not suit the design.
    FileError
        If a file cannot be read or written.

    Examples
    --------
    >>> import magnetite
    >>> _ = magnetite.write(magnetite.scenes((160, 120))["clay-core"], "core.png")
    >>> asked = magnetite.ask("core.png", "test", design="rating", steps="dct step=4dn,16dn")
    >>> len(asked.test.stimuli), asked.answers  # with the hidden reference
    (3, 3)
    """
    check_choice("design", design, DESIGNS)
    if design != "pairs" and (ties or with_reference or pairs is not None):
        raise InputError("ties, a number of pairs and a shown reference go with the design pairs")
    target = Path(folder)
    if target.exists() and not target.is_dir():
        raise FileError(f"{target}: is a file; name a folder for the test")
    given = [sources] if isinstance(sources, str | Path) else list(sources)
    paths, texts = list(map(Path, given)), [steps] if isinstance(steps, str) else list(steps)
    notes: list[str] = []
    shown = list(_shown(paths, texts, size, seed, notes))
    order = np.random.default_rng(seed).permutation(len(shown))
    names = [f"s{number + 1:03d}" for number in order]
    stimuli = [
        Stimulus(name, one.content, one.condition, one.kind, one.picture.digest().hex(), one.rms,
                 one.setting, one.rate)
        for name, one in zip(names, shown, strict=True)
    ]  # fmt: skip
    test = BlindTest(
        design, tuple(stimuli), _pairs(design, stimuli, pairs),
        repeats or {"pairs": 2, "rating": 1, "threshold": 40}[design], ties, magnification,
        pixels_per_degree, *size,
    )  # fmt: skip
    _check(test)
    pictures = {name: one.picture for name, one in zip(names, shown, strict=True)}
    page = _rendered(test, pictures, with_reference=with_reference)
    _write(target, test, pictures, page)
    return Asked(test, target, len(page), _answers(test), tuple(notes))


def _shown(
    paths: Sequence[Path], steps: Sequence[str], size: tuple[int, int], seed: int, notes: list[str]
) -> Iterator[_Shown]:
    if len(paths) == 1 and paths[0].is_dir():
        if steps:
            raise InputError("the pictures of a run are as the run has them: leave out the steps")
        yield from _of_run(paths[0], size, notes)
        return
    if not steps:
        raise InputError(
            "state the chains for the reference pictures, as in --steps 'jpeg quality=10,30,60'"
        )
    sweeps = [parse_sweep(text, *KINDS) for text in steps]
    contents: dict[str, Path] = {}
    for path in paths:
        if path.stem in contents:
            raise InputError(f"{path} and {contents[path.stem]} have one name: rename one")
        contents[path.stem] = path
    references = check_distinct((_as_shown(read(path), size) for path in paths), "references")
    for path, reference in zip(paths, references, strict=True):
        yield _Shown(path.stem, REFERENCE, REFERENCE, reference, 0.0)
        for sweep in sweeps:
            for chain in sweep:
                made = degrade(reference, chain, seed=seed, files=DiskFiles())
                kind = " + ".join(step.name for step in chain.steps)
                yield _Shown(
                    path.stem, str(chain), kind, made.picture,
                    rmse(reference.samples, made.picture.samples), _setting(chain, sweep),
                    made.certificate.rate,
                )  # fmt: skip


def _of_run(folder: Path, size: tuple[int, int], notes: list[str]) -> Iterator[_Shown]:
    """Pictures of a run; of those with one label the first."""
    rows, found = run_gallery(folder)
    notes += found.notes
    references: dict[str, Picture] = {}
    seen: set[tuple[str, str]] = set()
    for one in found.pictures:
        label = REFERENCE if one.kind == "reference" else one.label
        if (one.reference, label) in seen:
            continue
        seen.add((one.reference, label))
        picture = _as_shown(one.picture, size)
        reference = references.setdefault(one.reference, picture)
        kind = label if one.row is None else str(rows.frame["degradation name"].iloc[one.row])
        error = rmse(reference.samples, picture.samples)
        yield _Shown(one.reference, label, kind, picture, error, rate=one.bpp)


def _as_shown(picture: Picture, size: tuple[int, int]) -> Picture:
    """The middle of a picture, with the 8 bits of a screen."""
    if picture.colour == "planes":
        raise InputError(f"{picture.origin} has planes: raters see gray or RGB")
    return depth(middle(picture, width=size[0], height=size[1]), bits=8)


def _setting(chain: Chain, sweep: Sequence[Chain]) -> float | None:
    """The number that a sweep varies."""
    for number, step in enumerate(chain.steps):
        for key, value in step.settings:
            if len({str(dict(one.steps[number].settings)[key]) for one in sweep}) > 1:
                quantity = getattr(value, "number", value)
                return float(quantity) if not isinstance(quantity, str) else None
    return None


def _pairs(
    design: Design, stimuli: Sequence[Stimulus], most: int | None
) -> tuple[tuple[str, str], ...]:
    if design != "pairs":
        return ()
    names: dict[str, list[str]] = {}
    for one in stimuli:
        names.setdefault(one.content, []).append(one.name)
    return tuple(pair for group in names.values() for pair in pairs_of(group, most))


def _check(test: BlindTest) -> None:
    if len(test.stimuli) < 2:
        raise InputError("a test takes two pictures or more")
    if test.design != "threshold":
        return
    for (content, kind), series in test.series.items():
        if test.reference_of(series[0]) is None:
            raise InputError(f"{content}: a threshold takes the reference as well")
        levels = [one.rms for one in series]
        if len(levels) < 4 or len(set(levels)) < len(levels):
            raise InputError(
                f"{content}, {kind}: a threshold takes four levels or more that differ: "
                f"there are {len(set(levels))}; sweep the setting more finely"
            )


def _answers(test: BlindTest) -> int:
    if test.design == "threshold":
        return test.repeats * len(test.series)
    return test.repeats * len(test.pairs if test.design == "pairs" else test.stimuli)


def _rendered(test: BlindTest, pictures: dict[str, Picture], *, with_reference: bool) -> bytes:
    contents = {name: k for k, name in enumerate(test.contents)}
    data = {
        "test": test.identity,
        "design": test.design,
        "pictures": {one.name: one.digest for one in test.stimuli},
        "sizes": {name: [one.width, one.height] for name, one in pictures.items()},
        # The page holds the reference of each picture, not its chain.
        "content": {one.name: contents[one.content] for one in test.stimuli},
        "references": {
            contents[one.content]: one.name for one in test.stimuli if one.condition == REFERENCE
        },
        "pairs": test.pairs, "repeats": test.repeats, "ties": test.ties,
        "withReference": with_reference,
        "series": [
            {"names": [one.name for one in series], "levels": [one.rms for one in series],
             "reference": test.reference_of(series[0]).name}  # type: ignore[union-attr]
            for series in (test.series.values() if test.design == "threshold" else ())
        ],
        "training": _training(test),
        "magnification": test.magnification, "pixelsPerDegree": test.pixels_per_degree,
        "grades": {str(grade): words for grade, words in GRADES.items()},
        "pause": _BREAK,
        "adaptive": {"slope": SLOPE, "tellsMost": TELLS_MOST, "grid": GRID, "margin": MARGIN,
                     "guess": GUESS, "lapse": LAPSE},
    }  # fmt: skip
    sources = {
        name: "data:image/png;base64," + base64.b64encode(encoded(one, Path("one.png"))[0]).decode()
        for name, one in pictures.items()
    }
    page = environment().get_template("ask.html").render(
        data=safe_json(data), sources=safe_json(sources), script=asset("ask.js"),
        style=asset("ask.css"),
    )  # fmt: skip
    return str(page).encode()


def _training(test: BlindTest) -> list[str]:
    """Pictures of the training: the strongest ones, and a reference."""
    strongest = sorted(test.stimuli, key=lambda one: -one.rms)[:_TRAINING]
    if test.design == "rating":
        clean = [one for one in test.stimuli if one.condition == REFERENCE][:1]
        return [one.name for one in (*strongest[: _TRAINING - 1], *clean)]
    return [one.name for one in strongest if test.reference_of(one) not in (None, one)]


def _write(folder: Path, test: BlindTest, pictures: dict[str, Picture], page: bytes) -> None:
    """The folder of a test, all files written before the first is put there."""
    make_folder(folder)
    if (folder / RECORD).exists():
        if read_json(folder / RECORD).get("identity") == test.identity:
            return  # the same test: answers to it still belong
        raise FileError(
            f"{folder}: holds another test, and answers belong to it; name another folder"
        )
    with TemporaryDirectory(prefix=".magnetite-", dir=folder) as waiting:
        within = make_folder(Path(waiting) / PICTURES)
        for name, one in pictures.items():
            write(one, within / f"{name}.png")
        (Path(waiting) / PAGE).write_bytes(page)
        write_json(Path(waiting) / RECORD, test.as_record())
        for name in (PICTURES, PAGE, RECORD):
            os.replace(Path(waiting) / name, folder / name)
