"""Every declared method keeps the promises of its declaration; the docs follow from it."""

from __future__ import annotations

import inspect
import re
import subprocess
import sys
import tempfile
from functools import cache
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import arguments, sample_pictures
from magnetite.core.chain.notation import parse_step
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.gauges.naturalness import fit_naturalness
from magnetite.core.methods.amplitudes import BitDepth
from magnetite.core.methods.catalogue import ColourPolicy, Method, degradation, every
from magnetite.core.picture import Picture
from magnetite.files.sidecar import write_json
from magnetite.synthetic.catalogue import SCENES

ROOT = Path(__file__).parents[3]
KERNEL = Path(tempfile.mkdtemp()) / "kernel.npy"
np.save(KERNEL, np.array([[0, 1, 0], [1, 4, 1], [0, 1, 0]]))
METHODS = {f"{method.kind} {method.name}": method for method in every()}


@cache
def model() -> Path:
    """A model of natural pictures."""
    good = [SCENES[i].picture(384, 288, seed) for i in (0, 1, 3) for seed in (1, 2, 3)]
    path = KERNEL.with_name("model.json")
    write_json(path, fit_naturalness(good).as_record())
    return path


def example(method: Method) -> str:
    """The method as it may be used on any picture, float ones too."""
    text = method.example.replace("8dn", "3%").replace("kernel.npy", str(KERNEL))
    return text.replace("model.json", str(model())) if "model.json" in text else text


@pytest.mark.parametrize("method", METHODS.values(), ids=METHODS)
def test_declarations_are_complete(method: Method) -> None:
    assert method.summary.endswith(".")
    assert method.source
    assert str(parse_step(example(method), method.kind))
    for parameter in method.parameters.values():
        assert parameter.meaning
        assert parameter.kind.describe()
        if parameter.default_text is not None:
            value = parameter.kind.parse(parameter.default_text)
            assert parameter.kind.spell(value) == parameter.default_text
    assert set(method.one_of) <= set(method.parameters)
    document = method.function.__doc__
    assert document.startswith(method.formula)
    sections = ["Parameters", "Returns", "Raises", "References"]
    assert re.findall(r"(?<=\n\n)(\w+)\n-+\n", document) == sections
    listed = re.split(r"\n\n\w+\n-+\n", document)[1]
    names = re.findall(r"^(\w+(?:, \w+)*)(?: :|$)", listed, re.M)
    signature = inspect.signature(inspect.unwrap(method.function))
    assert [name for group in names for name in group.split(", ")] == list(signature.parameters)


def refusal(method: Method, picture: Picture) -> str | None:
    """What a method must say to a sort of picture that it does not support; None where it does."""
    odd = picture.height % 2 or picture.width % 2
    if method.name == "mosaic" and picture.colour == "rgb" and odd:
        return "does not fit a picture of"
    if method.name == "demosaic":
        return "demosaic takes a mosaic" if picture.colour != "gray" else "does not fit a picture"
    if method.name == "white-balance" and picture.colour == "planes":
        return "takes RGB or a mosaic"
    if method.name == "white-balance" and picture.colour == "gray":
        return "state its pattern="
    floats, planes = picture.bits is None, picture.colour == "planes"
    deepest = {"jpeg": 8, "webp": 8, "avif": 12}.get(method.name, 16)
    of_bits = any(isinstance(p.kind, BitDepth) for p in method.implicit)
    rules = {
        "needs an RGB picture": method.colour is ColourPolicy.RGB and picture.colour != "rgb",
        "write weights=mean": method.name == "gray" and planes,
        "have 5 planes": method.colour is ColourPolicy.LUMA and planes,
        "are gray": method.name in ("sam", "ergas") and picture.colour == "gray",
        "a float picture has no bit planes": floats and (of_bits or method.name == "bit-planes"),
        "codes digital numbers": floats and method.name == "predictive",
        "codes gray and RGB of": getattr(method, "yardstick", False)
        and (planes or floats or picture.bits > deepest),
    }
    return next((words for words, applies in rules.items() if applies), None)


@cache
def large(name: str) -> Picture:
    """A picture of the same sort with a slanted edge, large enough for every figure."""
    picture = sample_pictures()[name]
    y, x = np.mgrid[:192, :208]
    edge = 0.25 + 0.5 / (1 + np.exp((x - 100 - 0.1 * y) / -0.6))
    pixels = edge[..., np.newaxis] * np.linspace(1, 0.8, picture.channels)
    pixels += np.random.default_rng(5).normal(0, 0.004, pixels.shape)
    shape = pixels.shape[:2] if picture.colour == "gray" else pixels.shape
    blank = np.zeros(shape, picture.samples.dtype)
    like = Picture(blank, picture.bits, picture.colour)
    return like.with_pixels(pixels.reshape(shape).astype(picture.pixels().dtype))[0]


@pytest.mark.parametrize("method", METHODS.values(), ids=METHODS)
def test_methods_support_every_sort_of_picture_that_they_claim(method: Method) -> None:
    for name, picture in sample_pictures().items():
        figures = method.kind in ("metric", "gauge")
        supported(method, large(name) if figures else picture)


def supported(method: Method, picture: Picture) -> None:
    step = example(method)
    verbs = {
        "conversion": lambda: magnetite.convert(picture, step),
        "codec": lambda: magnetite.degrade(picture, step),
        "degradation": lambda: magnetite.degrade(picture, step),
        "restoration": lambda: magnetite.restore(picture, step),
        "metric": lambda: magnetite.score(picture, picture, step)[method.name],
        "gauge": lambda: magnetite.gauge(picture, step)[step],
    }
    if (words := refusal(method, picture)) is not None:
        with pytest.raises((PictureError, ChainError), match=words):
            verbs[method.kind]()
        return
    result = verbs[method.kind]()
    if method.kind == "conversion":
        assert result.samples.size <= picture.samples.size
    elif method.kind == "metric":
        assert result == method.identical or method.identical is None
    elif method.kind == "gauge":
        assert result >= 0
    else:
        if method.kind == "degradation":
            assert result.certificate.verdict == "as asked"
        samples = result.picture.samples
        assert (samples.shape, samples.dtype) == (picture.samples.shape, picture.samples.dtype)


@pytest.mark.parametrize("kind", ["degradation", "restoration"])
def test_pixel_methods_leave_the_callers_array_alone(kind: str) -> None:
    rng = np.random.default_rng(0)
    for method in every(kind):
        settings = arguments(parse_step(example(method), kind))
        for dtype in (np.float32, np.float64):
            pixels = rng.random((16, 17, 3)).astype(dtype)
            pixels.flags.writeable = False
            rest = (rng,) if "rng" in method.inputs else ()
            if method.name in ("mosaic", "demosaic"):
                pixels = pixels[:, :16] if method.name == "mosaic" else pixels[:, :16, 0]
            result = method.function(pixels, *rest, **settings)
            shape = {"mosaic": (16, 16), "demosaic": (16, 16, 3)}.get(method.name, pixels.shape)
            assert (result.dtype, result.shape) == (pixels.dtype, shape)
            assert not np.shares_memory(result, pixels)


@pytest.mark.parametrize("step", ["median size=5", "gaussian sigma=3"])
def test_restorations_keep_a_constant_picture(step: str) -> None:
    flat = np.full((9, 11), 77, np.uint8)
    assert (magnetite.restore(flat, step).picture.samples == 77).all()


def test_zero_strength_is_the_identity(picture: Picture) -> None:
    for step in ("median size=1", "gaussian sigma=0"):
        assert magnetite.restore(picture, step).picture.same_samples(picture)
    for step in ("gaussian-noise sd=0%", "salt-pepper density=0", "gaussian-blur sigma=0"):
        assert magnetite.degrade(picture, step).picture.same_samples(picture)


def test_median_is_the_median_of_the_mirrored_window() -> None:
    samples = np.random.default_rng(0).integers(0, 256, (9, 8)).astype(np.uint8)
    padded = np.pad(samples, 2, mode="symmetric")
    windows = np.lib.stride_tricks.sliding_window_view(padded, (5, 5))
    expected = np.median(windows, axis=(2, 3))
    np.testing.assert_array_equal(magnetite.restore(samples, "median size=5").picture, expected)


def test_a_name_cannot_be_declared_twice() -> None:
    with pytest.raises(ValueError, match="declared already"):

        @degradation("quantize", summary="Again.", colour=ColourPolicy.EACH, source="none")
        def again(pixels: np.ndarray, rng: object) -> np.ndarray:
            return pixels


def test_the_example_of_the_contributors_guide_works(tmp_path: Path) -> None:
    guide = (ROOT / "CONTRIBUTING.md").read_text()
    code = re.search(r"```python\n(.*?)```", guide, re.DOTALL)[1]
    assert code.count("\n") <= 40
    (tmp_path / "test_example.py").write_text(code)
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", tmp_path],
        capture_output=True, text=True, cwd=tmp_path,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout
    assert "1 passed" in done.stdout


def test_a_plug_in_adds_its_methods_and_a_broken_one_is_skipped(tmp_path: Path) -> None:
    code = re.search(
        r"```python\n(.*?)```", (ROOT / "CONTRIBUTING.md").read_text(), re.DOTALL
    )[1]  # fmt: skip
    (tmp_path / "our_noise.py").write_text(code)
    (tmp_path / "broken.py").write_text("import nothing_of_the_kind\n")
    info = tmp_path / "ours-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: ours\nVersion: 1.0\n")
    entries = "[magnetite.methods]\na = broken\nb = our_noise\n"
    (info / "entry_points.txt").write_text(entries)
    done = subprocess.run(
        [sys.executable, "-m", "magnetite", "methods", "rayleigh-noise"],
        capture_output=True, text=True, cwd=tmp_path, env={"PYTHONPATH": str(tmp_path)},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "rayleigh-noise" in done.stdout
    assert "plug-in 'a' skipped" in done.stderr


def test_the_documented_methods_are_the_declared_ones() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "magnetite", "methods", "--format", "markdown"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert (ROOT / "docs" / "methods.md").read_text() == done.stdout, "run make docs"


def test_the_front_door_has_what_it_names() -> None:
    assert set(magnetite.__all__) == {*magnetite._HOMES, *magnetite._GROUPS}
    for name in magnetite.__all__:
        assert getattr(magnetite, name).__doc__


@pytest.mark.parametrize("arguments", [["--help"], ["methods"], ["degrade", "--help"]])
def test_help_and_methods_stay_light(arguments: list[str]) -> None:
    code = (
        "import sys; from magnetite.cli.main import program\n"
        f"program({arguments[0]!r})({arguments!r}, standalone_mode=False)\n"
        "heavy = {'numba', 'pandas', 'matplotlib', 'scipy.signal', 'scipy', 'PIL', 'tifffile'}\n"
        "print(sorted(heavy & set(sys.modules)), file=sys.stderr)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stderr.strip() == "[]"
