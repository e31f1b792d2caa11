"""Figures that once were wrong, each with the class of cases behind it."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import magnetite
from conftest import Run, texture
from magnetite.core.calibrate.photon_transfer import PhotonTransfer, photon_transfer
from magnetite.core.edges.slanted_edge import measure_edge
from magnetite.core.errors import PictureError
from magnetite.core.gauges.noise_level import grouped_median
from magnetite.core.picture import Picture, as_picture
from magnetite.core.picture.region import Region
from magnetite.synthetic.catalogue import SCENES

#: What the median of a normal number's size is of its sd.
NORMAL = 0.6744897501960817


def gauged(name: str, picture: object) -> float:
    return magnetite.gauge(picture, name)[name]


def plain_median(samples: np.ndarray) -> float:
    a, b, c, d = (samples[i::2, j::2].astype(float) for i in (0, 1) for j in (0, 1))
    return float(np.median(np.abs(a - b - c + d) / 2)) / NORMAL


def clean_pictures() -> dict[str, Picture]:
    flat = np.full((64, 64), 128, np.uint8)
    dead, salt, square = flat.copy(), flat.copy(), np.zeros((64, 64), np.uint8)
    dead[5, 5] = 0
    salt[np.random.default_rng(0).random(flat.shape) < 0.05] = 255
    square[20:41, 21:43] = 255
    made = {"dead px": dead, "salt": salt, "square": square}
    pictures = {name: as_picture(samples) for name, samples in made.items()}
    for bits in (1, 2, 3):
        scene = SCENES[0].picture(256, 256, 0).luma()
        pictures[f"{bits} bits"] = magnetite.degrade(scene, f"quantize bits={bits}").picture
    wide = (square.astype(np.uint16) * 257, dead.astype(np.uint16) * 257)
    pictures |= {f"16 bits {i}": as_picture(samples) for i, samples in enumerate(wide)}
    return pictures


@pytest.mark.parametrize("name", clean_pictures())
def test_no_noise_is_invented_in_clean_pictures(name: str) -> None:
    picture = clean_pictures()[name]
    step = 255 / picture.full_scale
    estimate = gauged("noise-wavelet", picture)
    assert abs(estimate - plain_median(picture.samples * step)) <= step / 2
    zeros = plain_median(picture.samples) == 0
    assert not zeros or estimate < step / 2
    restored = magnetite.restore(picture, "bm3d").picture
    assert np.abs(restored.samples.astype(int) - picture.samples).max() * step <= 1


@given(st.lists(st.integers(0, 40), min_size=3, max_size=60), st.sampled_from([0.5, 1 / 514, 8.5]))
def test_ties_move_the_median_by_half_their_width(numbers: list[int], width: float) -> None:
    values = np.array(numbers) * width
    plain = float(np.partition(values, values.size // 2)[values.size // 2])
    assert abs(grouped_median(values, width) - plain) <= width / 2 * (1 + 1e-9)


def ramp_frames(step: str, bits: int, seeds: range, size: tuple[int, int]) -> list[Picture]:
    """Frames of a ramp along the rows, clipped and rounded to a depth."""
    scene = np.tile(np.linspace(0.01, 0.9, size[1]), (size[0], 1))
    return [rounded(scene, step, bits, seed) for seed in seeds]


def rounded(scene: np.ndarray, step: str, bits: int, seed: int) -> Picture:
    kept = magnetite.degrade(scene, step, seed=seed, overflow="keep").picture.samples
    numbers = np.rint(kept.clip(0, 1) * (2**bits - 1))
    return Picture(numbers.astype(np.uint8 if bits <= 8 else np.uint16), bits, "gray")


def flat_frames(step: str, bits: int, levels: tuple[float, ...], first: int = 0) -> list[Picture]:
    return [
        rounded(np.full((224, 288), level), step, bits, first + 10 * number + frame)
        for number, level in enumerate(levels)
        for frame in range(2)
    ]


def test_row_noise_does_not_count_as_read_noise() -> None:
    step = "sensor-noise full-well=20000e read=8e row=6e prnu=2%"
    made = [
        photon_transfer(ramp_frames(step, 12, range(n, n + 2), (448, 288)), black=0)
        for n in range(0, 24, 2)
    ]
    assert np.mean([t.read.value for t in made]) == pytest.approx(8, rel=0.08)
    assert sum(t.read.low <= 8 <= t.read.high for t in made) >= 10
    assert np.mean([t.prnu.value for t in made]) == pytest.approx(0.02, rel=0.01)
    assert np.mean([t.row.value for t in made]) == pytest.approx(6, rel=0.05)


def test_noise_that_rounding_hides_is_refused_or_said() -> None:
    hidden = "sensor-noise full-well=400000e read=4e"
    with pytest.raises(PictureError, match="rounding hides it"):
        photon_transfer(ramp_frames(hidden, 8, range(2), (224, 288)))
    partly = photon_transfer(
        ramp_frames("sensor-noise full-well=100000e read=4e", 8, range(2), (448, 576)), black=0
    )
    assert partly.full_well.low <= 100_000 <= partly.full_well.high
    assert partly.read.low <= 4 <= partly.read.high
    assert partly.prnu is None
    assert "rounding hides it" in partly.remarks[0]
    assert "the read noise cannot be distinguished from 0" in partly.remarks[1]


def test_dark_fields_and_clipped_flats_are_left_out() -> None:
    step = "sensor-noise full-well=20000e read=8e dsnu=40e prnu=1%"
    made = [
        photon_transfer(flat_frames(step, 12, (0.0, 0.1, 0.5, 0.9), n), black=0)
        for n in range(0, 500, 50)
    ]
    assert np.mean([t.read.value for t in made]) == pytest.approx(8, rel=0.06)
    assert sum(t.read.low <= 8 <= t.read.high for t in made) >= 8
    clipped = "sensor-noise full-well=20000e read=8e prnu=1%"
    one = photon_transfer(flat_frames(clipped, 12, (0.1, 0.5, 0.98)), black=0)
    assert one.flat_fields == 2
    assert one.prnu.value == pytest.approx(0.01, rel=0.015)


def covers(transfer: PhotonTransfer, truth: dict[str, float]) -> dict[str, bool]:
    found = {
        "full-well": transfer.full_well, "read": transfer.read, "row": transfer.row,
        "prnu": transfer.prnu,
        "dsnu": transfer.dsnu,
    }  # fmt: skip
    return {
        name: estimate.low <= truth[name] <= estimate.high
        for name, estimate in found.items()
        if estimate is not None and truth.get(name)
    }


@pytest.mark.long
def test_intervals_of_200_cameras_hold_the_truth() -> None:
    rng = np.random.default_rng(1)
    held: list[bool] = []
    for camera in range(200):
        bits = int(rng.choice([8, 10, 12, 14, 16]))
        truth = {
            "full-well": float(rng.uniform(2000, 60_000 if bits > 8 else 12_000)),
            "read": float(rng.uniform(4, 30)), "row": float(rng.choice([0, 8])),
            "prnu": float(rng.choice([0, 0.01, 0.02])), "dsnu": float(rng.choice([0, 12])),
        }  # fmt: skip
        step = "sensor-noise full-well={full-well:.1f}e read={read:.3f}e row={row}e prnu={prnu} "
        step = (step + f"dsnu={{dsnu}}e sensor={camera}").format(**truth)
        if camera % 2:
            frames = flat_frames(step, bits, (0.06, 0.15, 0.3, 0.5, 0.7, 0.85), 100 * camera)
        else:
            frames = ramp_frames(step, bits, range(2 * camera, 2 * camera + 2), (224, 288))
        held += covers(photon_transfer(frames, black=0), truth).values()
    assert len(held) > 500
    assert 0.93 <= np.mean(held) <= 0.97, np.mean(held)


def test_a_constant_difference_has_no_structure() -> None:
    colour, wide = SCENES[0].picture(160, 120, 0), SCENES[4].picture(160, 120, 0)
    for picture in (colour, wide):
        samples = picture.samples.clip(0, int(picture.full_scale) - 9)
        scores = magnetite.score(samples, samples + 3, "residual-structure,residual-whiteness")
        assert list(scores.values()) == [0, 1]


def test_fsim_reduces_by_the_nearest_factor() -> None:
    plane = texture(645, 700)
    test = plane + np.random.default_rng(0).normal(0, 0.05, plane.shape)
    figures = [magnetite.score(plane[:n], test[:n], "fsim")["fsim"] for n in (638, 640, 642)]
    factor_three = figures[2]
    assert figures[1] == pytest.approx(factor_three, abs=0.01), "640 / 256 is 2.5 and gives 3"
    assert abs(figures[0] - factor_three) > 0.02


def test_contours_are_seen_in_the_pictures_own_numbers() -> None:
    wide = np.tile(np.rint(np.linspace(0.2, 0.4, 1200) * 65535).astype(np.uint16), (60, 1))
    assert gauged("false-contours", wide) == 0
    coarse = magnetite.degrade(wide, "quantize bits=10").picture
    # Steps of a 1023rd of full scale, that add up to 0.2 of it, over all pairs of neighbours.
    pairs = 1199 * 60 + 1200 * 59
    assert gauged("false-contours", coarse) == pytest.approx(
        (0.2 * 255 * 255 / 1023 * 60 / pairs) ** 0.5, rel=0.02
    )
    ten = Picture((coarse.samples >> 6), 10, "gray")
    assert gauged("false-contours", ten) == 0, "steps of one dn are all that 10 bits have"


@pytest.mark.parametrize("block", [(2, 8), (3, 5), (12, 7), (16, 64), (8, 100)])
def test_blocks_of_any_size_are_found(block: tuple[int, int]) -> None:
    clean = SCENES[0].picture(1280, 448, 0).luma()
    step = f"dct step=16% block={block[0]}x{block[1]} optimise=off smooth=off"
    figures = magnetite.gauge(magnetite.compress(clean, step).picture, "block-height,block-width")
    assert tuple(figures.values()) == block


def test_a_slanted_edge_has_an_interval_that_holds() -> None:
    chart = SCENES[2].picture(640, 448, 0)
    soft = magnetite.degrade(chart, "gaussian-blur sigma=1.5").picture
    truth = measure_edge(soft, Region(100, 90, 56, 80)).mtf50
    held = 0
    for seed in range(12):
        noisy = magnetite.degrade(soft, "gaussian-noise sd=2%", seed=seed).picture
        edge = measure_edge(noisy, Region(100, 90, 56, 80))
        held += abs(edge.mtf50 - truth) <= edge.mtf50_error
    assert held >= 9
    assert "degrees off an axis: MTF50" in edge.words
    y, x = np.mgrid[:120, :120]
    steep = 0.2 + 0.6 / (1 + np.exp(-(x - 60 + (y - 60) * math.tan(math.radians(20)))))
    remark = measure_edge(as_picture(steep), Region(0, 0, 120, 120)).remarks[0]
    assert "20.0 degrees off an axis" in remark


def test_soft_shades_are_not_edges() -> None:
    y, x = np.mgrid[:300, :400] / 40
    shades = 0.5 + 0.3 * np.sin(x + 0.1 * y)
    with pytest.raises(PictureError, match="no straight edge"):
        measure_edge(as_picture(np.rint(shades * 255).astype(np.uint8)))


def test_clipping_metrics_say_so() -> None:
    floats = texture(64, 64, 3) * 1.4 - 0.2
    scores = magnetite.score(floats, floats * 0.9, "delta-e,mutual-information,mse")
    assert "delta-e, mutual-information take them for these" in scores.remarks[0]
    wide, mask = 2 * floats - 0.5, np.zeros((64, 64))
    mask[:8] = 1
    for inside, part in ((None, wide), (mask, wide[:8])):
        (remark, _) = magnetite.score(wide, wide * 0.9, "delta-e,mse", mask=inside).remarks
        share = 100 * np.mean((part < 0) | (part > 1))
        assert share > 1
        assert f": {share:.3g}% of the samples lie beyond" in remark
    assert "entropy take them" in magnetite.gauge(floats, "entropy").remarks[0]
    assert not magnetite.score(floats, floats, "mse").remarks


def test_results_are_plain_in_python() -> None:
    import pandas

    picture = SCENES[1].picture(160, 120, 0)
    scores = magnetite.score(picture, picture, "psnr,ssim")
    frame = pandas.DataFrame({"same": scores})
    assert frame.loc["ssim", "same"] == 1
    assert set(magnetite.__all__) <= set(dir(magnetite))
    coded = magnetite.compress(picture, "dct step=8dn")
    for result in (picture, coded, magnetite.restore(picture, "median"),
                   magnetite.degrade(picture, "gaussian-noise sd=1%")):  # fmt: skip
        assert len(repr(result)) < 3000
        assert "array(" not in repr(result)


def test_a_gauge_that_fails_on_one_picture_keeps_the_others(run: Run, tmp_path: Path) -> None:
    run("scenes", "t", "--size", "256x184")
    done = run("gauge", "t/veined-breccia.png", "t/chart-plate.png", "--metrics", "mtf50,mean")
    lines = done.stdout.splitlines()
    assert lines[1].split()[-2] == "–"
    assert float(lines[2].split()[-2]) > 0.3
    assert "t/veined-breccia.png: mtf50 left out: no straight edge" in done.stderr
    rows = json.loads(run("gauge", "t/veined-breccia.png", "--metrics", "mtf50,mean",
                          "--format", "json").stdout)["rows"]  # fmt: skip
    assert set(rows[0]["left_out"]) == {"mtf50"}


def test_tables_tell_bytes_time_and_what_is_scored(run: Run, tmp_path: Path) -> None:
    run("scenes", "t", "--size", "160x112")
    clean = "t/veined-breccia.png"
    run("compress", clean, "a.mgt", "dct", "step=8dn")
    size = (tmp_path / "a.mgt").stat().st_size
    table = run("score", clean, "a.mgt", "--metrics", "psnr,psnr-b").stdout
    assert "psnr-b dB ↑ luma" in table
    assert str(size) in table
    (row,) = json.loads(run("score", clean, "a.mgt", "--format", "json").stdout)["rows"]
    assert row["bpp"] == pytest.approx(8 * size / (160 * 112))
    run("degrade", clean, "n.png", "gaussian-noise", "sd=8dn")
    words = ("restore", "n.png", "r.png", "median", "--reference", clean)
    assert " s\n" in run(*words).stdout
    record = json.loads(run(*words, "--format", "json").stdout)
    assert record["after"]["psnr"] != record["before"]["psnr"]
    assert record["seconds"] > 0
    done = run("compress", clean, "p.mgt", "pca", "variance=50%")
    assert "1 component holds" in done.stderr
    assert "any smaller share gives the same picture" in done.stderr
    assert "bit-planes, bit-planes" not in run("degrade", clean, "o.png", "x", status=2).stderr


def test_the_rate_at_a_score_is_found_again(run: Run, tmp_path: Path) -> None:
    run("scenes", "t", "--size", "160x112")
    pictures = ("t/veined-breccia.png", "t/speckled-granite.png")
    done = run("curve", *pictures, "--codec", "dct", "--codec", "jpeg", "--metrics", "mse",
               "--at", "ssim=0.9", "--format", "json")  # fmt: skip
    content = json.loads(done.stdout)
    rates = {(r["reference"], r["codec"]): r["bpp"] for r in content["rates"]}
    breccia = magnetite.read(tmp_path / "t/veined-breccia.png")
    from magnetite.core.operations.rate import compress_to_aim

    found = compress_to_aim(breccia, "dct", "ssim=0.9")
    assert rates["t/veined-breccia.png", "dct"] == pytest.approx(found.bpp, rel=0.03)
    pair = [rates[p, "dct"] for p in pictures]
    assert rates["mean", "dct"] == pytest.approx(math.sqrt(math.prod(pair)))
    for line in content["comparisons"]:
        assert line["bd_rate"] > 0, "also by an error, which is better when lower"
