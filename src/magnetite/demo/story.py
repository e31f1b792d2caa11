"""Do the demo's whole job into a folder: references, a plan, its run, figures, the answer."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from operator import call
from pathlib import Path
from typing import Any

from magnetite.core.compute.processes import each_done
from magnetite.core.errors import FileError, MagnetiteError, PictureError
from magnetite.core.picture import Picture
from magnetite.demo import cameras, figures, people, trays
from magnetite.demo.answer import answer
from magnetite.demo.plan import NOISES, plan_text
from magnetite.demo.results import SceneResult, results_of
from magnetite.experiment.executors import local
from magnetite.experiment.plan_reading import read_plan
from magnetite.experiment.results import read_rows
from magnetite.experiment.runner import Listener, Outcome, distinct, run
from magnetite.experiment.tasks import PlanJob
from magnetite.files.atomic import make_folder, write_bytes
from magnetite.files.opening import read_text
from magnetite.files.reading import read
from magnetite.files.writing import lossless_ending, write
from magnetite.pages.content import of_run
from magnetite.pages.page import write_page
from magnetite.synthetic.catalogue import DEFAULT_SIZE, SCENES

GUIDE, PLAN, RUN, PAGE = "WALKTHROUGH.txt", "plan.toml", "run", "report.html"
#: Smallest side of a picture that the demo takes: the windows of its metrics fit.
SMALLEST = 16
MOST_PICTURES = 24

_GUIDE_TEXT = f"""\
Contents of this folder, in the order of the work

references/   the clean pictures
{PLAN}     the experiment: noise, denoisers and rates, as a plan
{RUN}/          the plan carried out: ledger.sqlite, and every row in scores.csv;
              magnetite summarize FOLDER/{RUN} prints their tables
{cameras.FOLDER}/        small colour references, and {cameras.PLAN}: the noise of two cameras;
{cameras.RUN}/      that plan carried out
{trays.FOLDER}/   small trays, and {trays.PLAN}: the rate that the next one needs
{trays.RUN}/        that plan carried out
{people.TEST}/   a blind test: ask.html asks people; {people.ANSWERS}/ are those of simulated
              raters, {people.FIGURE} their scale values and three metrics
answer.txt    the answers
{PAGE}   all of it on one page: open it in a browser
curves/       rate-distortion figures
sheets/       each scene: reference, noisy, denoised, coded, with an enlarged part

After a change of the plan, magnetite run FOLDER/{PLAN} --into FOLDER/{RUN} computes the new rows.
"""


@dataclass(frozen=True)
class Story:
    """The pictures of the demo, and their names in its answer."""

    #: The clean pictures by name.
    references: dict[str, Picture]
    #: The structure that should stay readable, as the answer calls it, and its scene.
    subject: str
    focus: str | None = None
    #: Colour references of the second experiment; none leaves it out.
    tiles: dict[str, Picture] = field(default_factory=dict)
    #: Trays of the third experiment, whose first is shown to raters.
    trays: dict[str, Picture] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Told:
    """Results of the demo."""

    results: list[SceneResult]
    answer: list[str]
    rows: int
    failed: int
    seconds: float
    notes: list[str] = field(default_factory=list)


def demo_story(seed: int) -> Story:
    """The story of the Brindle Hollow core shed."""
    references = {s.name: s.picture(*DEFAULT_SIZE, seed) for s in SCENES}
    return Story(
        references,
        "Veins",
        focus="veined-breccia",
        tiles=cameras.tiles(seed),
        trays=trays.trays(seed),
    )


def own_story(folder: Path) -> Story:
    """The story of the pictures in a folder; other files are skipped with a note.

    Raises
    ------
    FileError
        If the folder is missing or holds no picture that can be used.
    """
    if not folder.is_dir():
        raise FileError(f"{folder}: no such folder")
    references: dict[str, Picture] = {}
    first: dict[bytes, Path] = {}
    notes = []
    for path in sorted(p for p in folder.iterdir() if p.is_file()):
        try:
            picture = read(path)
            _check_usable(picture)
        except MagnetiteError as error:
            notes.append(f"skipped: {error}")
            continue
        if (known := first.setdefault(picture.digest(), path)) != path:
            notes.append(f"skipped: {path} holds the same samples as {known}")
            continue
        notes += [f"{path}: {message}" for message in picture.notes]
        references[path.stem if path.stem not in references else path.name] = picture
    if not references:
        raise FileError(f"{folder}: holds no picture that can be used; {'; '.join(notes)}")
    if len(references) > MOST_PICTURES:
        raise FileError(
            f"{folder}: holds {len(references)} pictures; the demo takes {MOST_PICTURES}"
        )
    return Story(references, "Details", notes=tuple(notes))


def _check_usable(picture: Picture) -> None:
    if picture.colour == "planes":
        raise PictureError(f"{picture.origin}: {picture.describe()} is neither gray nor RGB")
    if min(picture.width, picture.height) < SMALLEST:
        raise PictureError(
            f"{picture.origin}: {picture.describe()} is smaller than {SMALLEST}x{SMALLEST}"
        )


def check_folder(folder: Path) -> None:
    """Check that a folder is new or empty, or that an earlier demo is all that it holds.

    Raises
    ------
    FileError
        If it holds anything else.
    """
    if folder.is_dir() and any(folder.iterdir()) and not (folder / GUIDE).is_file():
        raise FileError(f"{folder}: holds other files; name a new or empty folder")


def prepare_folder(folder: Path) -> None:
    """Create a checked folder with its guide; raises `FileError` if that fails."""
    make_folder(folder)
    write_bytes(folder / GUIDE, _GUIDE_TEXT.encode())


def tell_story(
    story: Story, folder: Path, seed: int, workers: int | None, listener: Listener
) -> Told:
    """Do the work into a prepared folder; results are stored before anything is drawn."""
    files = _write_all(story.references, folder / "references")
    job, outcome = _run(plan_text(seed, files), folder, PLAN, RUN, workers, listener)
    results = results_of(read_rows(folder / RUN))
    words = answer(results, story.subject, story.focus)
    outcomes = [outcome]
    if story.tiles:
        _write_all(story.tiles, folder / cameras.FOLDER)
        own = cameras.PLAN, cameras.RUN
        outcomes.append(_run(cameras.plan_text(seed), folder, *own, workers, listener)[1])
        words.append(cameras.sentence(read_rows(folder / cameras.RUN).frame))
    if story.trays:
        _write_all(story.trays, folder / trays.FOLDER)
        own = trays.PLAN, trays.RUN
        outcomes.append(_run(trays.plan_text(seed), folder, *own, workers, listener)[1])
        words.append(trays.sentence(read_rows(folder / trays.RUN)))
        first = f"{next(iter(story.trays))}.png"
        words.append(people.asked(folder / trays.FOLDER / first, folder, seed))
    write_bytes(folder / "answer.txt", ("\n\n".join(words) + "\n").encode())
    drawings = (_page, folder), *_drawings(results, job, seed, folder)
    for _ in each_done(call, drawings, local(workers).workers):
        pass
    return Told(
        results, words, sum(one.cells for one in outcomes), sum(one.failed for one in outcomes),
        sum(one.seconds for one in outcomes),
    )  # fmt: skip


def _write_all(pictures: dict[str, Picture], folder: Path) -> list[str]:
    """Write pictures into a folder; the files' names with that of the folder."""
    names = [f"{name}{lossless_ending(picture)}" for name, picture in pictures.items()]
    for name, picture in zip(names, pictures.values(), strict=True):
        write(picture, make_folder(folder) / name)
    return [f"{folder.name}/{name}" for name in names]


def _run(
    text: str, folder: Path, plan: str, into: str, workers: int | None, listener: Listener
) -> tuple[PlanJob, Outcome]:
    """Write a plan and carry it out."""
    write_bytes(folder / plan, text.encode())
    job = PlanJob.of(read_plan(folder / plan), folder)
    return job, run(job, read_text(folder / plan), folder / into, local(workers), listener)


def _page(folder: Path) -> None:
    write_page(of_run(folder / RUN), folder / PAGE)


def _drawings(
    results: list[SceneResult], job: PlanJob, seed: int, folder: Path
) -> Iterator[tuple[Any, ...]]:
    """Functions that draw the figures, and their arguments."""
    curves, sheets = make_folder(folder / "curves"), make_folder(folder / "sheets")
    sources = {one.facts.name: one.source for one in distinct(job.sources)[0]}
    taken = [sources[result.name].load() for result in results]
    for result, picture in zip(results, taken, strict=True):
        yield figures.draw_sheet, result, picture, seed, sheets / f"{result.name}.png"
    yield figures.draw_curves, results, curves / "rate-distortion.png"
    for noise in NOISES:
        name = noise.replace(" ", "-")
        yield figures.draw_denoising, results, noise, curves / f"denoise-first-{name}.png"
    yield figures.draw_overview, results, taken, sheets / "references.png"
