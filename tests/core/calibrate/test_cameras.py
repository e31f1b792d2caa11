"""Made-up cameras of known gain, noise, pattern and black level, measured from their frames."""

from __future__ import annotations

import random
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.calibrate.fixed_pattern import _level, fixed_pattern
from magnetite.core.calibrate.photon_transfer import PhotonTransfer, photon_transfer
from magnetite.core.calibrate.signal_levels import row_noise
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture

HEIGHT, WIDTH = 96, 144


@dataclass(frozen=True)
class Camera:
    """Electrons to whole digital numbers: `round(black + gain (light + noise))`."""

    bits: int
    gain: float
    read: float
    prnu: float
    dsnu: float
    black: float
    seed: int
    #: Bits of the files; larger than those of the camera where full scale is not stated.
    stored: int | None = None
    #: Sd of the rows' own offsets, electrons.
    row: float = 0.0

    @property
    def top(self) -> int:
        return 2**self.bits - 1

    def frame(self, electrons: float, number: int) -> Picture:
        fixed = np.random.default_rng(self.seed)
        shape = HEIGHT, WIDTH
        sensitivity = 1 + self.prnu * fixed.standard_normal(shape)
        offset = self.dsnu * fixed.standard_normal(shape)
        rng = np.random.default_rng([self.seed, number])
        light = rng.poisson(np.maximum(electrons * sensitivity, 0)) + offset
        noise = self.read * rng.standard_normal(shape)
        noise += self.row * rng.standard_normal((HEIGHT, 1))
        values = self.black + self.gain * (light + noise)
        whole = np.rint(values).clip(0, self.top)
        bits = self.stored or self.bits
        return Picture(
            whole.astype(np.uint8 if bits <= 8 else np.uint16), bits, "gray", f"{number}"
        )


def random_camera(seed: int) -> tuple[Camera, list[Picture], dict[str, object]]:
    rng = np.random.default_rng(seed)
    bits = int(rng.choice([8, 10, 12, 14, 16]))
    gain = float(rng.uniform(0.2, 4)) if bits < 16 else float(rng.uniform(1, 8))
    black = float(rng.choice([0, 16 if bits == 8 else 64, 24 if bits == 8 else 200]))
    room = 2**bits - 1 - black
    gain = min(gain, room / 2000)
    read = float(rng.uniform(1, 20)) if bits > 8 else float(rng.uniform(4, 20))
    read = min(read, black / (5 * gain)) if black else read
    camera = Camera(
        bits, gain, read, float(rng.choice([0, 0.01])), float(rng.choice([0, 3.0])), black, seed,
        16 if bits < 16 and bits > 8 and rng.random() < 0.5 else None,
        float(np.random.default_rng([seed, 1]).choice([0, 0, read / 2, read])),
    )  # fmt: skip
    count = int(rng.integers(1, 13))
    shares = np.geomspace(0.02, 0.85, count) if count > 1 else np.array([0.5])
    frames = [
        camera.frame(share * room / gain, 100 * k + n)
        for k, share in enumerate(shares)
        for n in range(int(rng.integers(2, 5)))
    ]
    known: dict[str, object] = {}
    if black and rng.random() < 0.6:
        known["darks"] = [camera.frame(0, 9000 + n) for n in range(3)]
    elif (black and rng.random() < 0.7) or (not black and rng.random() < 0.5):
        known["black"] = black
    random.Random(seed).shuffle(frames)
    return camera, frames, known


def truths(camera: Camera, result: PhotonTransfer) -> list[tuple[str, Estimate | None, float]]:
    full = 2 ** (camera.stored or camera.bits) - 1
    return [
        ("gain", result.gain, camera.gain),
        ("full well", result.full_well, (full - camera.black) / camera.gain),
        ("read", result.read, camera.read),
        ("prnu", result.prnu, camera.prnu),
        ("dsnu", result.dsnu, camera.dsnu),
        ("row", result.row, camera.row),
        ("read, dn", result.read_samples, camera.read * camera.gain),
        ("dsnu, dn", result.dsnu_samples, camera.dsnu * camera.gain),
    ]


def measured(seeds: range) -> tuple[dict[str, list[bool]], list[str]]:
    held: dict[str, list[bool]] = {}
    reasons = []
    for seed in seeds:
        camera, frames, known = random_camera(seed)
        try:
            result = photon_transfer(frames, **known)  # type: ignore[arg-type]
        except PictureError as error:
            reasons.append(str(error))
            continue
        for name, estimate, truth in truths(camera, result):
            if estimate is None or truth == 0 or np.isnan(estimate.low):
                continue
            assert estimate.low < estimate.high, (seed, name, estimate)
            told = f"{name}, any black level" if name.startswith("read") and not known else name
            held.setdefault(told, []).append(estimate.low <= truth <= estimate.high)
    return held, reasons


@pytest.mark.long
def test_a_few_cameras_hold_their_truth() -> None:
    held, reasons = measured(range(40))
    for name in ("gain", "full well", "read", "read, any black level"):
        assert np.mean(held[name]) >= 0.85, (name, held[name])
    assert len(reasons) < 20
    told = ("span too little signal", "rounding hides", "name frames without light", "clipped")
    assert all(any(words in reason for words in told) for reason in reasons), reasons


@pytest.mark.long
def test_two_hundred_cameras_hold_their_truth_as_often_as_is_said() -> None:
    held, reasons = measured(range(1000, 1200))
    shares = {name: float(np.mean(own)) for name, own in held.items()}
    for name, own in held.items():
        chance = 3 * np.sqrt(0.95 * 0.05 / len(own))  # of this number of cameras
        assert 0.93 - chance <= shares[name] <= min(1, 0.97 + chance), (shares, len(reasons))


def test_a_quiet_dark_level_counts_by_its_own_variance() -> None:
    """Its variance is 0.02 % of the mean variance, and its error no more than its own."""
    camera = Camera(16, 1.0, 3, 0, 0, 200, 10)
    frames = [camera.frame(e, 10 * k + n) for k, e in enumerate((20000, 40000)) for n in range(4)]
    darks = [camera.frame(0, 900 + n) for n in range(4)]
    read = photon_transfer(frames, darks).read
    own = 3 / np.sqrt(2 * 3 * HEIGHT * WIDTH)  # of the sd of normal samples
    of_gain = 3 * np.sqrt(2 / (2 * 3 * HEIGHT * WIDTH))  # two levels; read noise is in electrons
    assert read.error == pytest.approx(np.hypot(own, of_gain), rel=0.1)
    assert read.low < 3 < read.high


def test_the_order_of_frames_changes_nothing() -> None:
    _, frames, known = random_camera(9)
    results = []
    for order in (frames, frames[::-1], frames[1::2] + frames[::2]):
        results.append(photon_transfer(order, **known))  # type: ignore[arg-type]
    assert results[0].rows() == results[1].rows() == results[2].rows()


def test_near_exposures_are_told_apart_and_flicker_is_not() -> None:
    """Twelve bits in files of 16 without full scale: the exposures lie close on its scale."""
    camera = Camera(12, 0.25, 6, 0.01, 0, 0, 5, stored=16)
    exposures = (200, 260, 340, 600, 1500, 4000, 9000, 14000)
    frames = [camera.frame(e, 10 * k + n) for k, e in enumerate(exposures) for n in range(3)]
    result = photon_transfer(frames, black=0)
    assert result.groups == (3,) * len(exposures)
    assert result.gain.low < 0.25 < result.gain.high
    assert result.read.low < 6 < result.read.high
    flickering = [
        camera.frame(e * (1 + 0.003 * (n - 1)), 10 * k + n)
        for k, e in enumerate(exposures) for n in range(3)
    ]  # fmt: skip
    steady = photon_transfer(flickering, black=0)
    assert steady.groups == result.groups
    assert steady.gain.value == pytest.approx(0.25, rel=0.03)


def test_black_levels_are_measured_stated_or_refused() -> None:
    camera = Camera(12, 0.25, 8, 0.01, 4, 64, 6)
    exposures = (300, 1000, 3000, 8000, 13000)
    frames = [camera.frame(e, 10 * k + n) for k, e in enumerate(exposures) for n in range(4)]
    darks = [camera.frame(0, 900 + n) for n in range(4)]
    for known in ({"darks": darks}, {"black": 64.0}):
        result = photon_transfer(frames, **known)  # type: ignore[arg-type]
        for name, estimate, truth in truths(camera, result):
            if estimate is not None:
                slack = 0.5 * (estimate.high - estimate.low)
                assert estimate.low - slack < truth < estimate.high + slack, name
    units = {row.figure: row.unit for row in photon_transfer(frames, darks).rows()}
    assert units["DSNU"] == "dn"
    assert [r.unit for r in photon_transfer(frames, darks).rows() if r.figure == "DSNU"] == [
        "e",
        "dn",
    ]
    with pytest.raises(PictureError, match="name frames without light with --dark"):
        photon_transfer(frames)
    with pytest.raises(PictureError, match="so the black level is above 20 dn"):
        photon_transfer(frames, black=20)
    low = Camera(12, 0.25, 8, 0, 0, 3, 7)
    frames = [low.frame(e, 10 * k + n) for k, e in enumerate(exposures) for n in range(4)]
    unknown = photon_transfer(frames)
    assert "the black level is taken for 0" in unknown.remarks[0]
    assert unknown.read.low < 8 < unknown.read.high
    clipped = [low.frame(0, 900 + n) for n in range(2)]
    with pytest.raises(PictureError, match="are clipped at 0"):
        photon_transfer(frames, clipped)


def test_a_fit_that_does_not_hold_has_no_interval() -> None:
    """Every other level has a pattern that changes from frame to frame."""
    camera = Camera(14, 1.0, 10, 0, 0, 0, 8)
    checks = 1 - 2 * (np.indices((HEIGHT, WIDTH)).sum(axis=0) % 2)
    made = []
    for k, electrons in enumerate((300, 1000, 3000, 6000, 9000, 14000)):
        for n in range(2):
            samples = camera.frame(electrons, 10 * k + n).samples + 30 * checks * (k % 2) * (n % 2)
            made.append(Picture(samples.astype(np.uint16), 14, "gray", f"{k} {n}"))
    result = photon_transfer(made, black=0)
    assert any("does not follow a straight line" in remark for remark in result.remarks)
    assert np.isnan(result.gain.low)


def test_darks_at_the_command_line(run: Run, tmp_path: Path) -> None:
    camera = Camera(12, 0.25, 8, 0.01, 4, 64, 6)
    (tmp_path / "darks").mkdir()
    names = []
    for k, electrons in enumerate((300, 1500, 5000, 13000)):
        for n in range(2):
            names.append(f"f{k}{n}.tif")
            magnetite.write(camera.frame(electrons, 10 * k + n), tmp_path / names[-1])
    for n in range(2):
        magnetite.write(camera.frame(0, 90 + n), tmp_path / "darks" / f"{n}.tif")
    full = ("--full-scale", "4095")
    measured = run("calibrate", "noise", *names, *full, "--dark", "darks")
    lines = [line.split() for line in measured.stdout.splitlines()]
    (read,) = (line for line in lines if line[:3] == ["read", "noise", "e"])
    value, low, high = map(float, read[3:6])
    assert low < value < high
    assert low - 1 < 8 < high + 1
    assert (
        "name frames without light with --dark"
        in run("calibrate", "noise", *names, *full, status=2).stderr
    )
    both = run("calibrate", "noise", *names, *full, "--dark", "darks", "--black", "64", status=2)
    assert "not both" in both.stderr
    assert "0 or more" in run("calibrate", "noise", *names, "--black", "-3", status=2).stderr


@pytest.mark.parametrize("channels", [1, 3])
@pytest.mark.parametrize("offset", [0.0, 0.4])
def test_offsets_of_rows_are_told_from_the_mean_of_independent_samples(
    offset: float, channels: int
) -> None:
    """Deviations of three frames from their mean; the noise of the samples has sd 1."""
    rng, found = np.random.default_rng(8), []
    for _ in range(30):
        frames = rng.standard_normal((3, 120, 20, channels))
        frames += offset * rng.standard_normal((3, 120, 1, 1))
        found.append(row_noise([frames - frames.mean(axis=0)]))
    if not offset:
        assert sum(one is not None for one in found) <= 1
        return
    values = np.array([one.value for one in found if one is not None])
    assert len(values) == 30
    assert values.mean() == pytest.approx(offset, abs=4 * values.std() / 30**0.5)
    errors = [(one.high - one.low) / 3.92 for one in found if one is not None]
    assert np.median(errors) == pytest.approx(values.std(), rel=0.4)


def test_row_noise_of_many_levels_is_not_that_of_the_levels_where_it_is_least() -> None:
    """Twelve levels of few rows each, whose own estimates scatter by a third."""
    rng, found = np.random.default_rng(3), []
    for _ in range(60):
        levels = [rng.standard_normal((2, 12, 40, 1)) + rng.standard_normal((2, 12, 1, 1))
                  for _ in range(12)]  # fmt: skip
        one = row_noise([frames - frames.mean(axis=0) for frames in levels])
        assert one is not None
        found.append(one.value)
    assert np.mean(found) == pytest.approx(1, abs=3 * np.std(found) / 60**0.5)
    still = np.zeros((2, 12, 40, 1), np.float32)  # no noise at all says nothing
    assert row_noise([still]) is None
    assert row_noise([still, *(frames - frames.mean(axis=0) for frames in levels)]) == one


def test_frames_without_light_are_no_scenes_that_row_noise_lights() -> None:
    """Read noise by its definition: the variance within rows, from frame to frame."""
    camera = Camera(14, 1.0, 4.0, 0.0, 3.0, 200, 5, row=30.0)
    frames = [camera.frame(e, 10 * k + n) for k, e in enumerate((2000, 9000)) for n in range(3)]
    darks = [camera.frame(0, 900 + n) for n in range(4)]
    found = photon_transfer(frames, darks)
    stack = np.stack([dark.samples.astype(float) for dark in darks])
    away = stack - stack.mean(axis=0)
    away = away - away.mean(axis=2, keepdims=True)
    variance = (away**2).sum() / (3 * HEIGHT * (WIDTH - 1))
    assert found.read_samples.value == pytest.approx(np.sqrt(variance - 1 / 12), rel=0.001)
    of_variance = variance / np.sqrt(3 * HEIGHT * WIDTH / 2)
    error = of_variance / (2 * found.read_samples.value)
    assert found.read_samples.error == pytest.approx(error, rel=0.05)
    # In electrons the gain errs as well, of two levels that have two thirds of the frames each.
    share = found.gain.error / found.gain.value
    assert found.dsnu is not None
    assert found.dsnu_samples is not None
    ratio = found.dsnu_samples.error / found.dsnu_samples.value
    assert found.dsnu.error / found.dsnu.value == pytest.approx(np.hypot(ratio, share), rel=0.02)
    assert found.dsnu.value == pytest.approx(found.dsnu_samples.value / found.gain.value)


def test_the_error_of_a_fixed_pattern_is_that_of_the_noise_alone() -> None:
    """The pattern stays, the noise of both halves is drawn anew."""
    rng, found = np.random.default_rng(3), []
    pattern = rng.standard_normal(4000)
    for _ in range(300):
        one, two = pattern + 0.7 * rng.standard_normal((2, 4000))
        found.append(_level(np.full(4000, 9.0), one * two, one**2 + two**2))
    common = np.array([level.common for level in found])
    assert common.mean() == pytest.approx(np.mean(pattern**2), abs=4 * common.std() / 300**0.5)
    assert common.std() == pytest.approx(np.mean([level.error for level in found]), rel=0.13)
    assert (found[0].darkest, found[0].mean, found[0].mean_square) == (9, 9, 81)


def test_levels_that_are_close_give_one_pattern_of_the_gain() -> None:
    """A line through both would take their noise for offsets."""
    rng = np.random.default_rng(9)
    gain = 1 + 0.01 * rng.standard_normal((60, 80, 1))
    stacks = [
        (level * gain + 12 * rng.standard_normal((8, 60, 80, 1))).astype(np.float32)
        for level in (1000, 1080, 1150)
    ]
    found = fixed_pattern(stacks, (0, 4095))
    assert found.dsnu is None
    assert found.prnu is not None
    assert found.prnu.low <= 0.01 <= found.prnu.high
    assert found.prnu.high - found.prnu.low < 0.001
