"""The whole job in the order of the work, into a folder a person can walk through."""

from __future__ import annotations

import csv
import io
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from magnetite.core.compute.threads import each
from magnetite.core.errors import FileError, MagnetiteError, PictureError
from magnetite.core.picture import Picture
from magnetite.demo import figures
from magnetite.demo.answer import answer
from magnetite.demo.scene import ACTIVITY, CODEC, DENOISER, NOISE, PIECES, SceneResult, work_through
from magnetite.files.atomic import make_folder, write_bytes
from magnetite.files.reading import read
from magnetite.files.sidecar import certificate_path, write_json
from magnetite.files.writing import write
from magnetite.scenes.catalogue import DEFAULT_SIZE, SCENES

WORKERS = 2
GUIDE = "WALKTHROUGH.txt"
#: Smallest side of a picture that the demo takes: the windows of its metrics fit.
SMALLEST = 16
MOST_PICTURES = 24

_GUIDE_TEXT = f"""\
What is in this folder, in the order of the work

references/   the clean pictures
degraded/     the same with {NOISE}; beside each its certificate:
              what was asked for, drawn, and stored after rounding and clipping
restored/     the degraded pictures after {DENOISER}
compressed/   clean, noisy and denoised pictures as .mgt files near the readable rate;
              magnetite expand FILE.mgt OUT.png decodes one
scores.csv    every picture scored against its reference
curves/       rate-distortion points (points.csv) and figures
sheets/       the versions of each scene side by side, with a zoomed crop

Codec of the curves: {CODEC}
"""


class _InterruptedError(Exception):
    """Ends a scene's work in its thread; nobody waits for its result any more."""


@dataclass(frozen=True)
class Story:
    """The pictures that the demo works on, and what its answer calls them."""

    #: The clean pictures by name, each read or made when its turn comes.
    references: dict[str, Callable[[], Picture]]
    #: What should stay readable, as the answer calls it, and the scene that it is on.
    subject: str
    focus: str | None = None
    notes: tuple[str, ...] = ()


def demo_story(seed: int) -> Story:
    """The story of the Brindle Hollow core shed."""
    references: dict[str, Callable[[], Picture]] = {
        s.name: partial(s.picture, *DEFAULT_SIZE, seed) for s in SCENES
    }
    return Story(references, "Veins", focus="veined-breccia")


def own_story(folder: Path) -> Story:
    """The story of the pictures in a folder; other files are skipped with a note.

    Raises
    ------
    FileError
        If the folder is missing or holds no picture that can be used.
    """
    if not folder.is_dir():
        raise FileError(f"{folder}: no such folder")
    references: dict[str, Callable[[], Picture]] = {}
    notes = []
    for path in sorted(p for p in folder.iterdir() if p.is_file()):
        try:
            picture = read(path)
            _check_usable(picture)
        except MagnetiteError as error:
            notes.append(f"skipped: {error}")
            continue
        notes += [f"{path}: {message}" for message in picture.notes]
        name = path.stem if path.stem not in references else path.name
        references[name] = partial(read, path)
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


def pieces(story: Story) -> int:
    """How many times `tell` will report progress."""
    return len(story.references) * (PIECES + 1) + 1


def prepare_folder(folder: Path) -> None:
    """Create the folder, or check that an earlier story is all that it holds.

    Raises
    ------
    FileError
        If it holds anything else, or cannot be created.
    """
    if folder.is_dir() and any(folder.iterdir()) and not (folder / GUIDE).is_file():
        raise FileError(f"{folder}: holds other files; name a new or empty folder")
    make_folder(folder)
    write_bytes(folder / GUIDE, _GUIDE_TEXT.encode())


def tell(
    story: Story, folder: Path, seed: int, advance: Callable[[str], None]
) -> tuple[list[SceneResult], str]:
    """Do the work into a prepared folder; results are stored before anything is drawn.

    Returns the results by scene, and the answer in words.
    """

    interrupted = threading.Event()

    def advance_or_stop(words: str) -> None:
        if interrupted.is_set():
            raise _InterruptedError
        advance(words)

    def scene(item: tuple[str, Callable[[], Picture]]) -> SceneResult:
        name, reference = item
        result = work_through(name, reference(), seed, advance_or_stop)
        _store(result, folder)
        return result

    try:
        results = each(scene, story.references.items(), workers=WORKERS)
    finally:  # an interruption waits for the pieces of work under way, and begins no more
        interrupted.set()
    _store_table(results, folder)
    curves, sheets = make_folder(folder / "curves"), make_folder(folder / "sheets")
    figures.draw_curves(results, curves / "rate-distortion.png")
    figures.draw_denoising(results, curves / "denoise-first.png")
    figures.draw_overview(results, sheets / "references.png")
    advance("curves drawn")
    for result in results:
        figures.draw_sheet(result, sheets / f"{result.name}.png")
        advance(f"{result.name}: sheet drawn")
    return results, answer(results, story.subject, story.focus)


def _store(result: SceneResult, folder: Path) -> None:
    ending = ".png" if result.reference.bits is not None else ".tif"
    name = result.name
    write(result.reference, make_folder(folder / "references") / f"{name}{ending}")
    degraded = make_folder(folder / "degraded") / f"{name}{ending}"
    write(result.degraded.picture, degraded)
    write_json(certificate_path(degraded), result.degraded.certificate.as_dict())
    for version in result.versions:
        if version.compressed is not None:
            label = version.stage.split(",")[0]
            path = make_folder(folder / "compressed") / f"{name}-{label}.mgt"
            write_bytes(path, version.compressed.data)
        elif version.stage == "denoised":
            write(version.picture, make_folder(folder / "restored") / f"{name}{ending}")


def _store_table(results: Sequence[SceneResult], folder: Path) -> None:
    rows: list[list[object]] = [
        ["scene", "width", "height", ACTIVITY, "stage", "chain", "bpp", "mse", "psnr", "ssim"]
    ]
    points: list[list[object]] = [["scene", "coded", "codec", "bpp", "bytes", "psnr", "ssim"]]
    for result in results:
        picture = result.reference
        start = [result.name, picture.width, picture.height, result.activity]
        for version in result.versions:
            rate = version.compressed.bpp if version.compressed else ""
            rows.append([*start, version.stage, version.chain, rate, *version.scores.values()])
        for source, curve in result.curves.items():
            points += [
                [result.name, source, p.step, p.bpp, p.bytes, p.scores["psnr"], p.scores["ssim"]]
                for p in curve
            ]
    _write_csv(folder / "scores.csv", rows)
    _write_csv(make_folder(folder / "curves") / "points.csv", points)


def _write_csv(path: Path, rows: list[list[object]]) -> None:
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows(rows)
    write_bytes(path, text.getvalue().encode())
