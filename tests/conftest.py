"""The program, and pictures to run it on."""

from __future__ import annotations

import gc
import io
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import chdir, contextmanager, redirect_stderr, redirect_stdout
from functools import cache, partial
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import settings
from PIL import Image
from scipy import ndimage

import magnetite
from magnetite.cli.main import execute
from magnetite.cli.options import limits
from magnetite.core.chain import named
from magnetite.core.chain.bind import bind_step
from magnetite.core.chain.step import Step
from magnetite.core.chart.design import Chart
from magnetite.core.methods import catalogue
from magnetite.core.picture import Frame, Picture, as_picture
from magnetite.external.declarations import contents
from magnetite.files.resources import DiskFiles
from magnetite.synthetic.catalogue import Scene

#: Programs that the tests interrupt would inherit it from a shell that starts the tests in the
#: background.
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)


def pytest_collection_finish() -> None:
    """The garbage collector skips all that is there now: thousands of tests, and libraries."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)


#: Scenes take long to draw, and many tests ask for the same ones.
setattr(Scene, "picture", cache(Scene.picture))  # noqa: B010

settings.register_profile("steady", deadline=None, derandomize=True)
settings.load_profile("steady")

PROGRAM = Path(sys.executable).with_name("magnetite")
Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Run:
    """Run the program in the test's folder; it must end with the status expected.

    It runs in this process, through the same front door: that saves the time of loading it.
    """

    monkeypatch.chdir(tmp_path)
    return partial(run_in, tmp_path)


def run_in(folder: Path, *words: str | Path, status: int = 0) -> subprocess.CompletedProcess[str]:
    """Run the program in a folder; see the fixture `run`."""
    texts, out, err = list(map(str, words)), io.StringIO(), io.StringIO()
    with chdir(folder), redirect_stdout(out), redirect_stderr(err), as_in_a_new_process():
        code = execute(texts)
    done = subprocess.CompletedProcess(texts, code, out.getvalue(), err.getvalue())
    assert done.returncode == status, f"{words}: {done.returncode}\n{done.stderr}{done.stdout}"
    return done


@contextmanager
def as_in_a_new_process() -> Iterator[None]:
    """Commands and chains of the user's own that are declared meanwhile are forgotten."""
    before, chains = dict(contents), named.every_chain()
    try:
        yield
    finally:
        limits.commands = ()
        for kind, name in set(contents) - set(before):
            catalogue.forget(kind, name)
            del contents[kind, name]
        for chain in named.every_chain():
            if chain not in chains:
                named.forget_chain(chain.name)


@pytest.fixture(autouse=True)
def _forgotten() -> Iterator[None]:
    """No test calls what another one declared: one command kills the process that calls it."""
    with as_in_a_new_process():
        yield


def arguments(step: Step, picture: Picture | None = None) -> dict[str, Any]:
    """What a step's function is given for a picture; of 8 bits gray if none is named."""
    frame = Frame(1, 1, 1, "gray", 8) if picture is None else picture.frame
    return dict(bind_step(step, frame, DiskFiles()).arguments)


def size_of(path: Path) -> tuple[int, int]:
    """Width and height of a picture file, by another reader than ours."""
    with Image.open(path) as image:
        return image.size


@cache
def drawn_chart(seed: int = 0) -> tuple[Picture, Chart]:
    """The smallest chart, and its design."""
    picture, chart = magnetite.chart(900, 600, seed=seed)
    return picture, chart


def texture(height: int, width: int, channels: int | None = None, seed: int = 1) -> np.ndarray:
    """Smooth structure with some grain, 0 to 1, a plane or several."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:height, :width] / 9
    phase = np.arange(channels or 1)
    planes = 0.5 + 0.3 * np.sin(x[..., None] + phase) * np.cos(y[..., None] - phase)
    planes = (planes + rng.normal(0, 0.03, planes.shape)).clip(0.02, 0.98)
    return planes if channels else planes[..., 0]


@cache
def sample_pictures() -> dict[str, Picture]:
    """One picture of every sort, of odd sizes."""

    def whole(pixels: np.ndarray, bits: int) -> Picture:
        dtype = np.uint8 if bits <= 8 else np.uint16
        samples = np.rint(pixels * (2**bits - 1)).astype(dtype)
        like = as_picture(samples)
        return Picture(samples, bits, like.colour)

    return {
        "gray 8": whole(texture(37, 53), 8),
        "rgb 8": whole(texture(41, 29, 3), 8),
        "gray 12": whole(texture(33, 31), 12),
        "rgb 16": whole(texture(25, 47, 3), 16),
        "gray float": as_picture(texture(31, 27).astype(np.float32)),
        "rgb float64": as_picture(texture(27, 31, 3)),
        "5 planes 16": whole(texture(19, 23, 5), 16),
    }


@pytest.fixture(params=list(sample_pictures()))
def picture(request: pytest.FixtureRequest) -> Picture:
    return sample_pictures()[request.param]


@pytest.fixture
def tile(tmp_path: Path) -> Path:
    """A colour picture of 8 bits in a file."""
    path = tmp_path / "tile.png"
    magnetite.write(sample_pictures()["rgb 8"], path)
    return path


def pair(height: int, width: int, channels: int | None = None) -> tuple[np.ndarray, np.ndarray]:
    clean = np.rint(texture(height, width, channels) * 255)
    noise = np.random.default_rng(3).normal(0, 12, clean.shape)
    return clean, np.rint(ndimage.uniform_filter(clean, 2) + noise).clip(0, 255)


def file_of(name: str, folder: Path) -> Path:
    picture = sample_pictures()[name]
    path = folder / f"{name.replace(' ', '-')}{'.png' if picture.bits else '.tif'}"
    if picture.colour == "planes":
        path = path.with_suffix(".tif")
    magnetite.write(picture, path)
    return path


@pytest.fixture
def folder(made: Path, tmp_path: Path) -> Path:
    """The test's own copy of the folder that its module has made."""
    shutil.copytree(made, tmp_path, dirs_exist_ok=True)
    return tmp_path


@pytest.fixture
def gray(tmp_path: Path) -> Path:
    """A small picture as a file, `g.png`."""
    path = tmp_path / "g.png"
    magnetite.write(as_picture((texture(64, 80) * 255).astype(np.uint8)), path)
    return path


def write_references(folder: Path, count: int) -> None:
    """Small pictures of different grain, numbered from 0."""
    folder.mkdir()
    for k in range(count):
        picture = as_picture((40 + 170 * texture(40, 48, seed=k)).astype(np.uint8))
        magnetite.write(picture, folder / f"{k}.png")


#: Size of the pictures that are worked on in bands.
TALL, ACROSS = 700, 91


def tall_picture(kind: str) -> Picture:
    """Shading and grain of a depth and colour."""
    y, x = np.mgrid[:TALL, :ACROSS]
    plane = 0.5 + 0.3 * np.sin(x / 9) * np.cos(y / 31)
    plane = plane + np.random.default_rng(5).normal(0, 0.05, plane.shape)
    if kind.startswith("rgb"):
        plane = np.stack([plane, 0.9 * plane, 0.7 * plane + 0.1], axis=-1)
    if kind.endswith("float"):
        return as_picture(plane.astype(np.float32))
    scale, dtype = (255, np.uint8) if kind.endswith("8") else (65535, np.uint16)
    return as_picture(np.rint(plane.clip(0, 1) * scale).astype(dtype))
