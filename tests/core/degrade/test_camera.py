"""From light to file: transfer curves, mosaics and their interpolation, chains with a name."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage
from sklearn.datasets import load_sample_images

import magnetite
from conftest import Run, texture
from magnetite.core.chain.named import NamedChain, declare_chain, forget_chain
from magnetite.core.chain.notation import parse_chain, parse_sweep
from magnetite.core.degrade.light import colour_matrix, to_encoded, to_linear, white_balance
from magnetite.core.degrade.mosaic import demosaic, mosaic
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.operations.degrade import degrading
from magnetite.core.picture import as_picture
from magnetite.core.picture.region import Region, RegionRows
from magnetite.core.picture.rows import Allowance, joined
from magnetite.external import declare
from magnetite.synthetic.catalogue import SCENES

CURVE = np.array([[0, 0], [0.02, 0.11], [0.1, 0.36], [0.4, 0.66], [1, 1]])
CURVES = (
    {"standard": "srgb"}, {"standard": "bt709"}, {"exponent": 2.2}, {"exponent": 0.6},
    {"points": CURVE},
)  # fmt: skip
PATTERNS = ("rggb", "bggr", "grbg", "gbrg")


@pytest.mark.parametrize("curve", CURVES, ids=str)
@pytest.mark.parametrize("first", [to_linear, to_encoded])
def test_curves_are_exact_inverses(curve, first) -> None:
    second = to_encoded if first is to_linear else to_linear
    for dtype, close in ((np.float32, 1e-6), (np.float64, 1e-12)):
        samples = np.linspace(-0.2, 1.3, 4001, dtype=dtype).reshape(-1, 1)
        there = first(samples, **curve)
        assert (np.diff(there[:, 0]) > 0).all()
        back = second(there, **curve)
        assert back.dtype == dtype
        np.testing.assert_allclose(back, samples, atol=10 * close if "points" in curve else close)


def test_curves_have_the_values_of_their_standards() -> None:
    """Values by hand from the formulas; 0.5 and 0.18 are the ones that everyone quotes."""
    one = np.ones((1, 1))
    assert to_linear(0.5 * one, standard="srgb")[0, 0] == pytest.approx(0.2140411, abs=1e-6)
    assert to_encoded(0.18 * one, standard="srgb")[0, 0] == pytest.approx(0.4613561, abs=1e-6)
    assert to_encoded(0.18 * one, standard="bt709")[0, 0] == pytest.approx(0.4088475, abs=1e-6)
    assert to_linear(0.04 * one, standard="srgb")[0, 0] == pytest.approx(0.04 / 12.92)
    assert to_encoded(0.01 * one, standard="bt709")[0, 0] == pytest.approx(0.045)
    assert to_linear(0.5 * one, exponent=2.2)[0, 0] == pytest.approx(0.5**2.2)
    for linear, encoded in CURVE:
        assert to_encoded(linear * one, points=CURVE)[0, 0] == pytest.approx(encoded, abs=1e-12)
    # Straight on beyond the last point.
    assert to_encoded(1.6 * one, points=CURVE)[0, 0] == pytest.approx(1 + 0.6 * 0.34 / 0.6)


@pytest.mark.parametrize(
    ("points", "says"),
    [
        (np.array([[0, 0], [0.5, 0.6], [0.4, 0.8]]), "both of its columns rise"),
        (np.array([[0, 0], [0.5, 0.6], [0.9, 0.6]]), "both of its columns rise"),
        (np.array([[0.1, 0], [1, 1]]), "begins at 0,0"),
        (np.ones((1, 2)), "rows of two numbers"),
        (np.ones((4, 3)), "rows of two numbers"),
    ],
)
def test_curves_that_do_not_rise_are_refused(points, says: str) -> None:
    with pytest.raises(PictureError, match=says):
        to_linear(np.zeros((4, 4)), points=points)


@pytest.mark.parametrize("pattern", PATTERNS)
def test_a_mosaic_keeps_the_colour_of_its_pattern(pattern: str) -> None:
    pixels = np.random.default_rng(0).random((6, 8, 3))
    plane = mosaic(pixels, pattern=pattern)
    for i in range(6):
        for j in range(8):
            letter = pattern[2 * (i % 2) + j % 2]
            assert plane[i, j] == pixels[i, j, "rgb".index(letter)]
    balanced = white_balance(plane, red=3, green=2, blue=5, pattern=pattern)
    gains = np.array([3.0, 2.0, 5.0])
    np.testing.assert_allclose(balanced, mosaic(pixels * gains, pattern=pattern))
    np.testing.assert_allclose(white_balance(pixels, red=3, green=2, blue=5), pixels * gains)


def interpolated(plane: np.ndarray, pattern: str, method: str) -> np.ndarray:
    """The definitions, sample by sample: means of neighbours, and the filters as published."""
    at = [[pattern[2 * (i % 2) + j % 2] for j in range(2)] for i in range(2)]
    g = np.array([[0, 0, -1, 0, 0], [0, 0, 2, 0, 0], [-1, 2, 4, 2, -1], [0, 0, 2, 0, 0],
                  [0, 0, -1, 0, 0]]) / 8  # fmt: skip
    row = np.array([[0, 0, 0.5, 0, 0], [0, -1, 0, -1, 0], [-1, 4, 5, 4, -1], [0, -1, 0, -1, 0],
                    [0, 0, 0.5, 0, 0]]) / 8  # fmt: skip
    far = np.array([[0, 0, -1.5, 0, 0], [0, 2, 0, 2, 0], [-1.5, 0, 6, 0, -1.5], [0, 2, 0, 2, 0],
                    [0, 0, -1.5, 0, 0]]) / 8  # fmt: skip
    height, width = plane.shape
    out = np.zeros((height, width, 3))
    for i in range(2, height - 2):
        for j in range(2, width - 2):
            own = at[i % 2][j % 2]
            window = plane[i - 2 : i + 3, j - 2 : j + 3]
            for k, colour in enumerate("rgb"):
                if own == colour:
                    out[i, j, k] = plane[i, j]
                elif method == "bilinear":
                    near = [plane[a, b] for a in range(i - 1, i + 2) for b in range(j - 1, j + 2)
                            if at[a % 2][b % 2] == colour]  # fmt: skip
                    out[i, j, k] = np.mean(near)
                elif colour == "g":
                    out[i, j, k] = (g * window).sum()
                elif own == "g":
                    beside = at[i % 2][1 - j % 2] == colour
                    out[i, j, k] = ((row if beside else row.T) * window).sum()
                else:
                    out[i, j, k] = (far * window).sum()
    return out[2:-2, 2:-2]


@pytest.mark.parametrize("pattern", PATTERNS)
@pytest.mark.parametrize("method", ["bilinear", "gradient"])
def test_interpolation_is_its_definition(pattern: str, method: str) -> None:
    plane = np.random.default_rng(1).random((16, 20))
    made = demosaic(plane, method=method, pattern=pattern)[2:-2, 2:-2]
    np.testing.assert_allclose(made, interpolated(plane, pattern, method), atol=1e-12)


@pytest.mark.parametrize("pattern", PATTERNS)
@pytest.mark.parametrize("method", ["bilinear", "gradient", "directional"])
def test_interpolation_keeps_its_samples_and_flat_colours(pattern: str, method: str) -> None:
    pixels = np.random.default_rng(2).random((24, 30, 3))
    plane = mosaic(pixels, pattern=pattern)
    np.testing.assert_array_equal(
        mosaic(demosaic(plane, method=method, pattern=pattern), pattern=pattern), plane
    )
    flat = np.ones((24, 30, 3)) * [0.8, 0.4, 0.1]
    made = demosaic(mosaic(flat, pattern=pattern), method=method, pattern=pattern)
    np.testing.assert_allclose(made, flat, atol=1e-12)


def test_directional_interpolation_follows_edges() -> None:
    """Stripes of one tint along an axis are exact where plain means blur them."""
    x = np.arange(64)
    stripes = 0.5 + 0.3 * np.sin(2 * np.pi * x / 5)
    for axis in (0, 1):
        plane = np.broadcast_to(stripes, (64, 64))
        plane = plane if axis else plane.T
        pixels = plane[..., np.newaxis] + np.array([0.1, 0, -0.1])
        errors = [
            float(np.abs(demosaic(mosaic(pixels), method=m) - pixels)[12:-12, 12:-12].max())
            for m in ("bilinear", "directional")
        ]
        assert errors[1] < 1e-9
        assert errors[0] > 0.1


def colour_psnr(one: np.ndarray, other: np.ndarray) -> float:
    return 10 * np.log10(255**2 / np.mean((one[8:-8, 8:-8].astype(float) - other[8:-8, 8:-8]) ** 2))


@pytest.mark.long
def test_the_best_interpolation_is_2_db_above_the_plain_one() -> None:
    pictures = [scene.picture(640, 448, 0) for scene in SCENES]
    samples = [one.samples for one in pictures if one.colour == "rgb"]
    samples += [one[:426, :640] for one in load_sample_images().images]
    gains = []
    for one in samples:
        plain, best = (
            colour_psnr(
                one, magnetite.degrade(one, f"mosaic + demosaic method={m}").picture.samples
            )
            for m in ("bilinear", "directional")
        )
        gains.append(best - plain)
    assert min(gains) > 2


def test_noise_of_an_interpolated_mosaic_has_the_computed_correlation() -> None:
    """Closed forms for white noise of sd s through means of neighbours.

    Red and blue: 3/4 of s, correlated 2/3 and 1/6 with samples 1 and 2 px apart; green: √(5/8) s,
    0.4 and 0.05.
    """
    flat = np.full((400, 400, 3), 128, np.uint8)
    chain = "mosaic + gaussian-noise sd=10dn + demosaic method=bilinear"
    certificate = magnetite.degrade(flat, chain, seed=1).certificate
    (before, after) = (
        {f.quantity: f.drawn for f in record.findings} for record in certificate.steps[1:]
    )
    assert before["noise sd"] == pytest.approx(10, rel=0.01)
    assert before["noise correlation at 1 px"] == pytest.approx(0, abs=0.01)
    assert after["noise sd red"] == pytest.approx(7.5, rel=0.01)
    assert after["noise sd green"] == pytest.approx(10 * np.sqrt(5 / 8), rel=0.01)
    assert after["noise sd blue"] == pytest.approx(7.5, rel=0.01)
    for lag, expected in ((1, (4 / 3 + 0.4) / 3), (2, (1 / 3 + 0.05) / 3), (3, 0), (4, 0)):
        assert after[f"noise correlation at {lag} px"] == pytest.approx(expected, abs=0.012)


def test_a_colour_matrix_mixes_and_its_inverse_undoes_it() -> None:
    pixels = np.random.default_rng(3).random((9, 7, 3))
    rows = np.array([[0.7, 0.2, 0.1], [0.1, 0.8, 0.1], [0, 0.3, 0.7]])
    mixed = colour_matrix(pixels, rows=rows)
    np.testing.assert_allclose(mixed[4, 5], rows @ pixels[4, 5])
    np.testing.assert_allclose(colour_matrix(mixed, rows=np.linalg.inv(rows)), pixels)
    step = parse_chain("colour-matrix rows=1,0,0/0,1.5,-0.5/0,0,1", "degradation")
    assert str(step) == "colour-matrix rows=1,0,0/0,1.5,-0.5/0,0,1"
    with pytest.raises(ChainError, match="3x3 numbers, as in 1,0,0/0,1,0/0,0,1"):
        parse_chain("colour-matrix rows=1,0,0/0,1,0", "degradation")


class Bands(Allowance):
    """Bands of an even height for every picture."""

    rows = 64

    def fits(self, frame) -> bool:
        return False

    def height(self, frame, cost, reach, obstacle) -> int:
        assert obstacle is None
        return self.rows


@settings(max_examples=12, deadline=None)
@given(rows=st.integers(1, 90), method=st.sampled_from(["bilinear", "gradient", "directional"]))
def test_bands_of_a_mosaic_stay_in_phase(rows: int, method: str) -> None:
    samples = np.random.default_rng(4).integers(0, 256, (200, 60, 3)).astype(np.uint8)
    chain = (
        "to-linear standard=srgb + gaussian-blur sigma=1.3px + mosaic + gaussian-noise sd=3dn "
        f"+ demosaic method={method} + to-encoded standard=srgb"
    )
    allowance = Bands()
    allowance.__class__.rows = 2 * rows
    rows = RegionRows(as_picture(samples), Region(0, 0, 60, 200))
    job = degrading(rows, chain, seed=2, allowance=allowance)
    bands = np.concatenate([band.samples for band in job])
    np.testing.assert_array_equal(bands, magnetite.degrade(samples, chain, seed=2).picture.samples)


@pytest.mark.parametrize("chain", ["mosaic", "mosaic + demosaic", "to-linear standard=srgb"])
def test_the_frame_of_a_result_is_known_before_it_is_made(chain: str) -> None:
    job = degrading(np.rint(texture(32, 40, 3) * 255).astype(np.uint8), chain)
    assert job.frame == joined(job).frame


def test_a_mosaic_is_a_gray_picture(run: Run, tmp_path: Path) -> None:
    picture = as_picture(np.random.default_rng(5).integers(0, 256, (32, 40, 3)).astype(np.uint8))
    magnetite.write(picture, tmp_path / "a.png")
    run("degrade", "a.png", "m.png", "mosaic", "pattern=grbg")
    raw = magnetite.read(tmp_path / "m.png")
    assert raw.colour == "gray"
    np.testing.assert_array_equal(raw.samples[::2, 1::2], picture.samples[::2, 1::2, 0])
    np.testing.assert_array_equal(raw.samples[1::2, ::2], picture.samples[1::2, ::2, 2])
    run("degrade", "m.png", "b.png", "demosaic", "pattern=grbg", "+", "dct", "step=2dn")
    assert magnetite.read(tmp_path / "b.png").colour == "rgb"
    for words, says in (
        ("degrade m.png x.png mosaic", "needs an RGB picture"),
        ("degrade a.png x.png demosaic", "demosaic takes a mosaic, one plane; this has 3"),
        ("degrade a.png x.png white-balance red=0", "0.01"),
        ("--convert crop{0}width=31{0}height=20 degrade a.png x.png mosaic",
         "does not fit a picture of 31x20: crop it to even sides"),
        ("degrade a.png x.png to-linear", "needs standard="),
        ("degrade a.png x.png gaussian-noise sd=2dn + bm3d", "write sd="),
    ):  # fmt: skip
        done = run(*(word.replace("{0}", " ") for word in words.split()), status=2)
        assert says in done.stderr
        assert done.stderr.count("\n") == 1
        assert not (tmp_path / "x.png").exists()


NAMED = """
[chain.store-camera]
summary = "A made-up camera."
steps = "gaussian-blur sigma={blur} + sensor-noise full-well={full-well}"
blur = "0.9px"

[chain.twice]
steps = "store-camera full-well=500e + store-camera full-well={full-well}"
"""


def test_a_name_stands_for_its_steps(run: Run, tmp_path: Path) -> None:
    samples = np.random.default_rng(6).integers(0, 256, (48, 56, 3)).astype(np.uint8)
    magnetite.write(as_picture(samples), tmp_path / "a.png")
    (tmp_path / "own.toml").write_text(NAMED)
    own = ["--commands", "own.toml"]
    run(*own, "degrade", "a.png", "b.png", "store-camera", "full-well=900e")
    steps = ["gaussian-blur", "sigma=0.9px", "+", "sensor-noise", "full-well=900e"]
    run("degrade", "a.png", "c.png", *steps)
    made, plain = (json.loads((tmp_path / f"{k}.png.cert.json").read_text()) for k in "bc")
    assert made == plain
    assert made["chain"] == " ".join(steps)
    assert (tmp_path / "b.png").read_bytes() == (tmp_path / "c.png").read_bytes()
    listed = run(*own, "methods", "store-camera").stdout
    assert "A made-up camera." in listed
    assert "blur=  default 0.9px" in listed
    for words, says in (
        ("store-camera", "store-camera needs full-well=, which has no default"),
        ("store-camera fullwell=3e", "no setting 'fullwell'; known: blur, full-well"),
        ("store-camera full-well=3e blur=1px blur=2px", "blur is given twice"),
        ("store-camera full-well", "is key=value without blanks"),
        ("store-camera full-well=soft", "in store-camera: word 5, 'full-well=soft'"),
        ("store-camra full-well=3e", "did you mean store-camera?"),
    ):
        done = run(*own, "degrade", "a.png", "x.png", *words.split(), status=2)
        assert says in done.stderr, done.stderr
    declare(tmp_path / "own.toml")
    swept = parse_sweep("store-camera full-well=900e,400e + dct step=4dn,8dn", "degradation",
                        "codec")  # fmt: skip
    assert len(swept) == 4
    assert str(swept[3]) == "gaussian-blur sigma=0.9px + sensor-noise full-well=400e + dct step=8dn"
    assert len(parse_chain("twice full-well=70e", "degradation").steps) == 4


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("[chain.x]\nblur = '1px'", "chain.x: steps is missing"),
        ("[chain.x]\nsteps = 3", "chain.x: a chain is a table of texts in quotes"),
        ("[chain.median]\nsteps = 'shift right=1'", "there is a method of that name already"),
        ("[chain.survey-camera]\nsteps = 'mosaic'", "there is a chain of that name already"),
        ("[chain.Big]\nsteps = 'mosaic'", "small letters"),
        ("[chain.x]\nsteps = 'mosaic'\nblur = '1px'", "blur is not in its steps"),
        ("[chains.x]\nsteps = 'mosaic'", "not [codec.NAME], [restoration.NAME]"),
    ],
)
def test_names_that_cannot_be_are_refused(
    run: Run, tmp_path: Path, gray: Path, text: str, says: str
) -> None:
    (tmp_path / "own.toml").write_text(text)
    done = run("--commands", "own.toml", "gauge", "g.png", status=2)
    assert says in done.stderr
    assert done.stderr.count("\n") == 1


def test_a_chain_that_names_itself_is_refused() -> None:
    for chain in (NamedChain("one", "", "shift right=1 + other"), NamedChain("other", "", "one")):
        declare_chain(chain)
    try:
        with pytest.raises(ChainError, match="the chain one names itself: one > other > one"):
            parse_chain("one", "degradation")
    finally:
        forget_chain("one")
        forget_chain("other")


@pytest.mark.parametrize("camera", ["survey-camera", "pocket-camera"])
def test_the_cameras_keep_gray_and_make_correlated_noise(camera: str) -> None:
    """Of a gray field the mean stays gray; more light has less noise."""
    gray = np.full((96, 120, 3), 150, np.uint8)
    sds = []
    for well in ("40000e", "1500e"):
        made = magnetite.degrade(gray, f"{camera} full-well={well}", seed=3)
        means = made.picture.samples.reshape(-1, 3).mean(axis=0)
        assert np.abs(means - 150).max() < 1.5
        sds.append(made.picture.samples.std(axis=(0, 1)).max())
        last = {f.quantity: f.drawn for f in made.certificate.steps[-1].findings}
        assert last["noise correlation at 1 px"] > 0.2
    assert sds[1] > 3 * sds[0]


def test_plans_take_cameras(run: Run, tmp_path: Path) -> None:
    (tmp_path / "refs").mkdir()
    scene = SCENES[0].picture(96, 64, 0)
    magnetite.write(scene, tmp_path / "refs" / "a.png")
    (tmp_path / "plan.toml").write_text(
        '[references]\nfiles = ["refs/*.png"]\n[degradations]\n'
        'camera = "survey-camera full-well=20000e,2000e"\n[treatments]\nmedian = "median"\n'
    )
    assert "2 rows: 2 computed" in run("run", "plan.toml", "--workers", "1").stdout
    made = run("summarize", "plan", "--table", "means", "--format", "json").stdout
    means = [r for r in json.loads(made)["tables"]["means"] if r["figure"] == "psnr"]
    assert means[0]["mean"] > means[1]["mean"]
    assert "sensor-noise full-well=2000e" in means[1]["degradation"]
    run("report", "plan")


def test_local_means_are_those_of_scipy() -> None:
    """The sparse tent is a convolution with the outer product of (1/2, 1, 1/2)."""
    plane = np.random.default_rng(7).random((20, 22))
    red = np.zeros_like(plane)
    red[::2, ::2] = plane[::2, ::2]
    kernel = np.outer([0.5, 1, 0.5], [0.5, 1, 0.5])
    expected = ndimage.convolve(red, kernel, mode="constant")[2:-2, 2:-2]
    np.testing.assert_allclose(demosaic(plane, method="bilinear")[2:-2, 2:-2, 0], expected)
