"""Bound steps: what they say to a scheduler is true, files are read once, workers compute alike."""

from __future__ import annotations

import multiprocessing
import pickle
import tracemalloc
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import magnetite
from conftest import texture
from magnetite.core.chain.bind import Bound, ReadOnce, bind, bind_step
from magnetite.core.chain.notation import parse_chain, parse_step
from magnetite.core.errors import ChainError
from magnetite.core.methods.catalogue import every
from magnetite.core.methods.declarations import Method, Metric
from magnetite.core.methods.parameters import Choice
from magnetite.core.picture import Frame, Picture, as_picture
from magnetite.external import declare

GRAY = Frame(96, 120, 1, "gray", 8)
#: Steps with a finite reach, beside the examples of all methods.
STEPS = (
    "gaussian-blur sigma=3px", "gaussian-blur sigma=0.7px boundary=black", "defocus radius=4.3px",
    "motion-blur length=9px angle=30deg", "box-blur size=6px", "quantize bits=3",
    "median size=7 shape=disk", "guided radius=4", "nl-means sd=10dn patch=5 search=9",
    "sliding-dct sd=10dn", "anisotropic-diffusion iterations=5", "adaptive-median largest=9",
    "wiener sd=8dn size=5", "sharpen sigma=1.5px",
)  # fmt: skip


class Kernels:
    """A reader that counts what it reads."""

    def __init__(self) -> None:
        self.read: list[str] = []

    def array(self, name: str) -> np.ndarray:
        self.read.append(name)
        return np.outer([1.0, 2.0, 1.0], [1.0, 4.0, 1.0])

    def record(self, name: str) -> dict[str, Any]:
        raise AssertionError(name)


def bound(text: str, frame: Frame = GRAY) -> Bound:
    return bind_step(parse_step(text, "degradation", "restoration"), frame, Kernels())


def on_gray(method: Method) -> str:
    """The example of a method, as it can be used on a gray picture."""
    return method.example + " pattern=rggb" * (method.name == "white-balance")


def local_steps() -> list[str]:
    methods = [*every("degradation"), *every("restoration")]
    examples = [on_gray(m) for m in methods if bound(m.example).method.name != "psf-blur"]
    # A Poisson count takes as many random numbers as it needs: what follows in its chunk moves on.
    local = [
        text for text in examples
        if (step := bound(text)).reach is not None
        and getattr(step.method, "draws_by", "") != "chunk"
    ]  # fmt: skip
    return [*STEPS, *local]


@pytest.mark.parametrize("text", local_steps())
def test_nothing_beyond_the_reach_matters(text: str) -> None:
    step = bound(text)
    if step.method.colour.value == "colour pictures only":
        step = bound(text, Frame(96, 120, 3, "rgb", 8))
    assert step.reach is not None
    pixels = (0.2 + 0.6 * texture(*step.frame.shape[:2])).astype(np.float32)
    if len(step.frame.shape) == 3:
        pixels = np.dstack([pixels] * 3)
    other = pixels.copy()
    row, column = 40, 50
    other[:row, :column] = 1 - other[:row, :column]
    made = []
    for given in (pixels, other):
        arguments = dict(step.settings)
        if step.needs_statistics and "sd" in arguments:
            arguments["sd"] = 0.05  # what would be estimated from the whole picture
        drawn = [np.random.default_rng(3)] if step.draws else []
        made.append(step.method.function(given, *drawn, **arguments))
    one, two = (np.asarray(m, float) for m in made)
    beyond = np.ones(one.shape[:2], bool)
    beyond[: row + step.reach, : column + step.reach] = False
    # Long kernels go through the Fourier transform, which spreads rounding over all samples.
    np.testing.assert_allclose(one[beyond], two[beyond], rtol=0, atol=2e-6)
    assert not np.allclose(one, two, atol=1e-3)


@pytest.mark.parametrize(("text", "reach", "draws", "statistics"), [
    ("gaussian-noise sd=8dn", 0, True, False),
    ("gaussian-noise snr=20dB", 0, True, True),
    ("gaussian-blur sigma=2px", 9, False, False),
    ("gaussian-blur sigma=2px boundary=wrap", None, False, False),
    ("quantize bits=4 dither=error-diffusion", None, False, False),
    ("quantize bits=4 dither=triangular", 0, True, False),
    ("quantize bits=4 design=lloyd-max", 0, False, True),
    ("psf-blur kernel=k.npy", 3, False, False),
    ("median size=5", 2, False, False),
    ("bm3d", None, False, False),
])  # fmt: skip
def test_a_bound_step_says_what_it_needs(
    text: str, reach: int | None, draws: bool, statistics: bool
) -> None:
    step = bound(text)
    assert (step.reach, step.draws, step.needs_statistics) == (reach, draws, statistics)


def examples_of_draws() -> list[str]:
    """The example of every degradation, alone and with each word of its choices."""
    made = []
    for method in every("degradation"):
        example = on_gray(method)
        choices = {key: p.kind.words for key, p in method.parameters.items()
                   if isinstance(p.kind, Choice) and f" {key}=" not in example}  # fmt: skip
        made += [example, *(f"{example} {k}={word}" for k, words in choices.items()
                            for word in words)]  # fmt: skip
    return made


@pytest.mark.parametrize("text", examples_of_draws())
def test_steps_that_draw_differ_with_the_seed_and_others_take_none(text: str) -> None:
    colours = 3 if bound(text).method.colour.value == "colour pictures only" else 1
    step = bound(text, Frame(24, 30, colours, "gray" if colours == 1 else "rgb", 8))
    pixels = 0.2 + 0.6 * texture(24, 30, colours if colours > 1 else None).astype(np.float32)
    seeds = [[np.random.default_rng(seed)] if step.draws else [] for seed in (1, 2)]
    one, two = (step.call(pixels, *drawn) for drawn in seeds)
    assert step.step.draws == step.draws
    assert np.array_equal(one, two) != step.draws


@pytest.mark.parametrize(
    "kind", ["degradation", pytest.param("restoration", marks=pytest.mark.long), "metric"]
)
def test_methods_take_no_more_memory_than_they_say(kind: str) -> None:
    plane = (0.2 + 0.6 * texture(448, 512)).astype(np.float32)
    for method in every(kind):
        step = bind_step(
            parse_step(on_gray(method), kind), Frame(448, 512, 1, "gray", 8), Kernels()
        )
        inputs: list[Any] = [plane]
        if kind == "metric":
            inputs = [plane.astype(float), plane[::-1].astype(float)]
        if method.colour.value == "colour pictures only" or method.name in ("sam", "ergas"):
            inputs = [np.dstack([one] * 3) for one in inputs]
        drawn = [np.random.default_rng(0)] if step.draws else []
        step.call(*inputs, *drawn)  # loops are compiled, tables made
        tracemalloc.start()
        step.call(*inputs, *drawn)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        assert peak <= step.memory * inputs[0].size, method.name


def test_a_file_is_read_once_for_all_tries() -> None:
    files = Kernels()
    picture = as_picture((texture(64, 80) * 255).astype(np.uint8))
    chain = "psf-blur kernel=k.npy + gaussian-noise sd=auto"
    from magnetite.core.operations.degrade import degrade

    made = degrade(picture, chain, aim="psnr=30", files=files)
    assert made.certificate.aim is not None
    assert made.certificate.aim.tries > 1
    assert files.read == ["k.npy"]
    once = ReadOnce(files)
    bind(parse_chain("psf-blur kernel=b.npy + psf-blur kernel=b.npy", "degradation"), GRAY, once)
    assert files.read == ["k.npy", "b.npy"]
    with pytest.raises(ValueError, match="read-only"):
        once.array("b.npy")[0, 0] = 1


def test_auto_is_refused_with_what_it_means() -> None:
    chain = parse_chain("gaussian-blur sigma=auto", "degradation", auto=True)
    with pytest.raises(ChainError, match="solved for by an aim, or write one, such as sigma=2px"):
        bind(chain, GRAY)


def computed(picture: Picture, step: Bound) -> bytes:
    """What a worker makes of what it was sent."""
    with pytest.raises(ValueError, match="read-only"):
        picture.samples[0, 0] = 0
    drawn = [np.random.default_rng(7)] if step.draws else []
    return picture.digest() + np.asarray(step.call(picture.pixels(), *drawn)).tobytes()


def test_a_spawned_worker_computes_the_same_from_bound_steps(tmp_path: Path) -> None:
    (tmp_path / "own.toml").write_text(
        '[restoration.copy]\nrun = ["cp", "{input}", "{output}"]\npicture = "npy"\n'
    )
    declare(tmp_path / "own.toml")
    picture = as_picture((texture(40, 50) * 255).astype(np.uint8))
    texts = ("psf-blur kernel=k.npy", "gaussian-noise sd=9dn", "nl-means sd=9dn", "copy")
    steps = [bound(text, picture.frame) for text in texts]
    assert pickle.loads(pickle.dumps(steps[1])) == steps[1]
    spawned = multiprocessing.get_context("spawn")
    own = (tmp_path / "own.toml",)
    with ProcessPoolExecutor(1, spawned, initializer=declare, initargs=own) as pool:
        for step in steps:
            assert pool.submit(computed, picture, step).result(60) == computed(picture, step)


def in_bands(metric: Metric, x: np.ndarray, y: np.ndarray, rows: int) -> float:
    """A metric by totals of bands that share the rows that it says."""
    assert metric.sums is not None
    shared, totals = metric.sums.shared_rows(**metric.defaults), None
    for top in range(0, x.shape[0] - shared, rows):
        part = slice(top, top + rows + shared)
        own = metric.sums.of_part(x[part], y[part], peak=255.0)
        totals = own if totals is None else metric.sums.combine(totals, own)
    assert totals is not None
    return metric.sums.score(totals, peak=255.0)


@pytest.mark.parametrize("rows", [7, 33, 200])
def test_metrics_that_are_sums_may_be_added_up_over_bands(rows: int) -> None:
    x = 255 * texture(113, 90)
    y = x + np.random.default_rng(1).normal(0, 9, x.shape)
    summed = [m for m in every("metric") if isinstance(m, Metric) and m.sums is not None]
    assert {"mse", "psnr", "mae", "max-error", "ssim", "uqi"} <= {m.name for m in summed}
    for metric in summed:
        whole = metric.function(x, y, 255.0)
        assert in_bands(metric, x, y, rows) == pytest.approx(whole, rel=1e-10), metric.name


def test_the_front_door_gives_what_the_bound_steps_do() -> None:
    picture = as_picture((texture(40, 50) * 255).astype(np.uint8))
    pixels = picture.pixels()
    for step in bind(parse_chain("median size=3 + gaussian sigma=1px", "restoration"), GRAY):
        pixels = step.call(pixels)
    made = magnetite.restore(picture, "median size=3 + gaussian sigma=1px").picture
    assert picture.with_pixels(pixels)[0].same_samples(made)
