"""Pictures worked on in bands give what the whole picture gives."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import magnetite
from conftest import ACROSS, TALL, tall_picture
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.compute.threads import cores, use_threads
from magnetite.core.errors import InputError, LimitError, PictureError
from magnetite.core.methods.catalogue import every, find
from magnetite.core.operations.certificate import Certificate
from magnetite.core.operations.convert import converting
from magnetite.core.operations.degrade import degrading
from magnetite.core.operations.gauge import gauge
from magnetite.core.operations.restore import restoring
from magnetite.core.operations.score import Scorer
from magnetite.core.picture import Frame, Picture, as_picture
from magnetite.core.picture.region import Region, RegionRows
from magnetite.core.picture.rows import STEP, Allowance, band_height, digest_of
from magnetite.core.picture.rows import joined as joined_rows
from magnetite.files.resources import DiskFiles


@dataclass(frozen=True)
class Bands(Allowance):
    """Bands of a height for every picture; none is taken whole."""

    rows: int = STEP

    def fits(self, frame: Frame) -> bool:
        return False

    def height(self, frame: Frame, cost: float, reach: int, obstacle: InputError | None) -> int:
        if obstacle is not None:
            raise obstacle
        return self.rows


BANDS = Bands(samples=0)


@dataclass(frozen=True)
class Stored:
    """A picture of which rows are read, as of a file: one in memory would be one band."""

    picture: Picture

    @property
    def frame(self) -> Frame:
        return self.picture.frame

    @property
    def origin(self) -> str:
        return self.picture.origin

    def part(self, rows: slice) -> Picture:
        return self.picture.part(rows)


def joined(bands: list[Picture]) -> np.ndarray:
    return np.concatenate([band.samples for band in bands])


def assert_same_findings(banded: Certificate, whole: Certificate) -> None:
    for ours, theirs in zip(banded.rows(), whole.rows(), strict=True):
        assert ours[:3] == theirs[:3]
        for one, other in zip(ours[3:7], theirs[3:7], strict=True):
            close = None if other is None else pytest.approx(other, rel=1e-9, abs=1e-9)
            assert one == close, theirs


CHAINS = (
    "gaussian-noise sd=5%",
    "gaussian-blur sigma=0.8 + gaussian-noise sd=2% channels=common + quantize bits=5",
    "salt-pepper density=4% + box-blur size=4 + uniform-noise sd=3%",
    "laplace-noise sd=2% + quantize levels=9 dither=triangular",
)


@pytest.mark.parametrize("kind", ["gray 8", "rgb 8", "rgb 16", "gray float"])
@pytest.mark.parametrize("chain", CHAINS)
def test_degraded_bands_are_the_degraded_picture(kind: str, chain: str) -> None:
    picture = tall_picture(kind)
    whole = magnetite.degrade(picture, chain, seed=7)
    for threads in (1, 2, 5):
        use_threads(threads)
        try:
            job = degrading(Stored(picture), chain, seed=7, allowance=BANDS)
            bands = list(job)
        finally:
            use_threads(cores())
        assert len(bands) > 1
        np.testing.assert_array_equal(joined(bands), whole.picture.samples)
        assert_same_findings(job.certificate(), whole.certificate)
        assert job.certificate().as_dict()["reference"] == whole.certificate.as_dict()["reference"]
        assert job.certificate().result_sha256 == whole.picture.digest().hex()
        assert job.certificate().rms_difference == pytest.approx(whole.certificate.rms_difference)


#: Of a picture of three colours and even width.
SIGNAL_CHAINS = (
    "poisson-noise photons=300",
    "speckle contrast=10%",
    "sensor-noise full-well=2000e read=3e prnu=1% dsnu=4e row=2e",
    "gaussian-blur sigma=1px + white-balance red=0.5 + mosaic + sensor-noise full-well=2000e "
    "read=3e prnu=1% full-well-red=900e pattern=rggb + demosaic + to-encoded standard=srgb",
)


@pytest.mark.parametrize("chain", SIGNAL_CHAINS)
def test_noise_that_follows_from_the_signal_is_the_same_in_bands(
    chain: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its numbers depend on the samples of a chunk, which reaches beyond the band."""
    monkeypatch.setattr("magnetite.core.compute.random.CHUNK", 2**12)
    monkeypatch.setattr("magnetite.core.degrade.certify.through._MOST", 64)
    picture = as_picture(np.ascontiguousarray(tall_picture("rgb 16").samples[:, :90]))
    whole = magnetite.degrade(picture, chain, seed=7)
    job = degrading(Stored(picture), chain, seed=7, allowance=BANDS)
    bands = list(job)
    assert len(bands) > 1
    np.testing.assert_array_equal(joined(bands), whole.picture.samples)
    assert_same_findings(job.certificate(), whole.certificate)
    assert whole.certificate.verdict == "as asked"


#: A plane that is worth compiled loops, in bands of 256 rows that are not.
WIDE = 260
BLURS = (
    "gaussian-blur sigma=0.8", "gaussian-blur sigma=4", "gaussian-blur sigma=20",
    "defocus radius=6", "motion-blur length=9 angle=30", "box-blur size=30",
    "gaussian-blur sigma=2 + defocus radius=3 + gaussian-noise sd=1%",
)  # fmt: skip


@pytest.mark.parametrize("kind", ["rgb 16", "gray float"])
@pytest.mark.parametrize("chain", BLURS)
def test_bands_below_the_size_of_compiled_loops_round_as_the_whole_does(
    kind: str, chain: str
) -> None:
    source = tall_picture(kind)
    across = np.arange(WIDE) % ACROSS
    picture = as_picture(np.ascontiguousarray(source.samples[:, across]))
    assert WIDE * STEP < WORTH_COMPILING < WIDE * TALL
    whole = magnetite.degrade(picture, chain, seed=7).picture
    bands = list(degrading(Stored(picture), chain, seed=7, allowance=BANDS))
    assert len(bands) > 1
    np.testing.assert_array_equal(joined(bands), whole.samples)
    if "+" not in chain and "box" not in chain and "gaussian" in chain:
        restored = restoring(Stored(picture), chain.replace("-blur", ""), allowance=BANDS)
        own = magnetite.restore(picture, chain.replace("-blur", "")).picture
        np.testing.assert_array_equal(joined(list(restored)), own.samples)


@settings(max_examples=15, deadline=None)
@given(rows=st.integers(1, TALL - 1), chain=st.sampled_from([*CHAINS, *BLURS]))
def test_bands_of_every_height_give_the_same_bits(rows: int, chain: str) -> None:
    picture = tall_picture("gray 16")
    bands = list(degrading(Stored(picture), chain, seed=7, allowance=Bands(samples=0, rows=rows)))
    assert len(bands) == -(-TALL // rows)
    whole = magnetite.degrade(picture, chain, seed=7).picture
    np.testing.assert_array_equal(joined(bands), whole.samples)


@pytest.mark.parametrize("kind", ["gray 8", "rgb 16", "gray float"])
def test_scores_of_bands_are_those_of_the_picture(kind: str) -> None:
    picture = tall_picture(kind)
    test = magnetite.degrade(picture, "gaussian-noise sd=4%").picture
    metrics = "mse,rmse,psnr,nrmse,mae,max-error,snr,ssim,ssim window=7,ssim-structure,uqi"
    whole = magnetite.score(picture, test, metrics)
    banded = Scorer(Stored(picture), allowance=BANDS).score(test, metrics)
    assert banded == pytest.approx(whole, rel=1e-9)
    same = Scorer(Stored(picture), allowance=BANDS).score(picture, "ssim,psnr,mse")
    assert same == {"ssim": 1.0, "psnr": np.inf, "mse": 0.0}
    assert same.identical


def test_a_last_band_too_low_for_a_window_still_counts_for_errors() -> None:
    rng = np.random.default_rng(0)
    one, two = (as_picture(rng.integers(0, 256, (STEP + 4, 40), np.uint8)) for _ in range(2))
    banded = Scorer(Stored(one), allowance=BANDS).score(two, "mse,ssim")
    assert banded == pytest.approx(magnetite.score(one, two, "mse,ssim"), rel=1e-9)


@pytest.mark.parametrize("more", [0, 1, 2, 3, 7, 8, 100])
@pytest.mark.parametrize("kind", ["gray 8", "rgb 16", "gray float"])
def test_gauges_of_bands_are_those_of_the_picture(kind: str, more: int) -> None:
    """Also where the last band is too low for a window, or for a step to the next row."""
    whole = magnetite.degrade(
        tall_picture(kind), "salt-pepper density=3% + box-blur size=3"
    ).picture
    blocks = magnetite.compress(whole, "dct step=16% block=8 smooth=off").picture
    picture = replace(blocks, samples=blocks.samples[: 2 * STEP + more])
    banded = gauge(Stored(picture), "all", strict=False, allowance=BANDS)
    names = {str(step) for step in banded.steps} - banded.left_out.keys()
    assert banded == pytest.approx(magnetite.gauge(picture, ",".join(sorted(names))), rel=1e-9)
    digital = {"noise-wavelet", "dynamic-range", "false-contours"}
    assert len(names) == (19 if picture.bits else 16)
    assert (digital <= names) == (picture.bits is not None)
    assert "needs the whole picture" in banded.left_out["ringing"]
    assert banded["block-height"] == 8


def test_impulses_of_bands_are_counted_once() -> None:
    struck = magnetite.degrade(tall_picture("gray 8"), "salt-pepper density=3%").picture
    whole = magnetite.gauge(struck, "impulse-share")
    assert gauge(Stored(struck), "impulse-share", allowance=BANDS) == pytest.approx(whole, rel=1e-9)
    assert whole["impulse-share"] == pytest.approx(0.03, rel=0.2)


def test_steps_of_few_levels_are_banding_in_bands_too() -> None:
    y, x = np.mgrid[: 2 * STEP + 5, :80]
    picture = as_picture(np.rint((y // 12 + x // 10) * 3).astype(np.uint8))
    figures = "false-contours,impulse-share,noise-wavelet,dynamic-range"
    banded = gauge(Stored(picture), figures, allowance=BANDS)
    assert banded == pytest.approx(magnetite.gauge(picture, figures), rel=1e-9)
    assert banded["false-contours"] > 0


def test_what_bands_clip_is_said() -> None:
    samples = tall_picture("gray float").samples.copy()
    samples[250:260] += 1
    picture = as_picture(samples, any_range=True)
    banded = gauge(Stored(picture), "entropy", allowance=BANDS)
    assert banded.remarks == magnetite.gauge(picture, "entropy").remarks
    assert "entropy take them for these" in banded.remarks[0]


def test_bands_refuse_pictures_too_small_for_a_gauge() -> None:
    thin = as_picture(np.zeros((900, 2), np.uint8))
    with pytest.raises(PictureError, match="noise-mask"):
        gauge(Stored(thin), "noise-mask", allowance=BANDS)
    with pytest.raises(InputError, match="mtf50: needs the whole picture"):
        gauge(Stored(tall_picture("gray 8")), "mtf50", allowance=BANDS)


def test_regions_of_rows_are_those_of_the_picture() -> None:
    picture = tall_picture("rgb 8")
    part = RegionRows(Stored(picture), "20,100,50x570")
    whole = Region(20, 100, 50, 570).crop(picture)
    assert part.frame == whole.frame
    np.testing.assert_array_equal(part.part(slice(30, 400)).samples, whole.samples[30:400])
    assert gauge(part, "sd", allowance=BANDS) == magnetite.gauge(whole, "sd")
    for steps in ("gray + crop left=3 top=290 width=40 height=300", "middle width=31 height=600"):
        bands = converting(Stored(picture), steps, BANDS)
        assert joined_rows(bands).same_samples(magnetite.convert(picture, steps))
    with pytest.raises(PictureError, match="leaves array"):
        RegionRows(Stored(picture), "80,0,20x20")


@pytest.mark.parametrize("chain", ["median size=5", "gaussian sigma=2 + sliding-dct sd=5dn"])
def test_restored_and_converted_bands_are_those_of_the_picture(chain: str) -> None:
    picture = tall_picture("rgb 8")
    job = restoring(Stored(picture), chain, allowance=BANDS)
    bands = list(job)
    assert len(bands) > 1
    np.testing.assert_array_equal(joined(bands), magnetite.restore(picture, chain).picture.samples)
    steps = "gray weights=bt709 + depth bits=12"
    converted = converting(Stored(picture), steps, BANDS)
    whole = magnetite.convert(picture, steps)
    assert converted.frame == whole.frame
    np.testing.assert_array_equal(joined(list(converted)), whole.samples)
    assert digest_of(RegionRows(Stored(picture), Region(0, 0, ACROSS, TALL))) == picture.digest()


@pytest.mark.parametrize(
    ("chain", "says"),
    [
        ("coloured-noise sd=2%", "random numbers depend on the samples"),
        ("gaussian-noise snr=20", "needs the whole picture"),
        ("gaussian-blur sigma=2 boundary=wrap", "needs the whole picture"),
        ("quantize bits=4 design=lloyd-max", "needs the whole picture"),
        ("impulse-noise density=2%", "needs the whole picture for its certificate"),
        ("dct step=8dn", "needs the whole picture"),
    ],
)
def test_what_needs_the_whole_picture_says_so(chain: str, says: str) -> None:
    with pytest.raises(InputError, match=says):
        degrading(Stored(tall_picture("gray 8")), chain, allowance=BANDS)


def test_bands_refuse_what_does_not_fit_together() -> None:
    one, two = tall_picture("gray 8"), tall_picture("gray 16")
    with pytest.raises(PictureError, match="the bit depths differ: array is 91x700 gray, 8 bits"):
        Scorer(Stored(one), allowance=BANDS).score(two)
    with pytest.raises(InputError, match="gmsd: needs the whole picture"):
        Scorer(Stored(one), allowance=BANDS).score(one, "gmsd")
    with pytest.raises(InputError, match="sd of the noise is estimated from the whole"):
        restoring(Stored(one), "sliding-dct", allowance=BANDS)
    with pytest.raises(LimitError, match=r"allow \d+ MiB \(--memory \d+MiB\)"):
        band_height(one.frame, 64, 2**20)


@pytest.mark.parametrize(
    "step", [m.example for kind in ("degradation", "restoration") for m in every(kind)]
)
def test_every_method_that_bands_take_gives_what_the_whole_picture_gives(
    step: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    np.save("kernel.npy", np.outer([1, 2, 1], [1, 3, 1]))
    picture = tall_picture("gray 8" if step == "demosaic" else "rgb 8")
    picture = as_picture(np.ascontiguousarray(picture.samples[:, :90]))  # mosaics take even sides
    restores = find("degradation", step.split(maxsplit=1)[0]) is None
    make = restoring if restores else degrading
    try:
        job = make(Stored(picture), step, files=DiskFiles(), allowance=BANDS)
    except InputError as refused:
        assert "whole picture" in str(refused) or "estimated from the whole" in str(refused)
        return
    work = magnetite.restore if restores else magnetite.degrade
    whole = work(picture, step).picture.samples.astype(int)
    banded = joined(list(job)).astype(int)
    # What goes through the FFT rounds differently in bands.
    assert np.abs(banded - whole).max() <= 1
    assert (banded != whole).mean() < 1e-3
