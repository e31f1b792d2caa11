"""Settings tuned with and without a reference: the choice, the figure, and its limits."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
import pytest
from scipy.fft import dctn
from scipy.ndimage import gaussian_filter

import magnetite
from conftest import Run, texture
from magnetite.core.chain.notation import parse_chain
from magnetite.core.errors import ChainError, PictureError
from magnetite.core.operations.risk import Risk, _spectrum, risk_of
from magnetite.core.operations.tuning import tune
from magnetite.core.picture import Picture, as_picture
from magnetite.core.restore.kernels.noise_sd import estimate
from magnetite.synthetic.catalogue import SCENES


def scene(number: int, side: int = 128, seed: int = 3) -> Picture:
    picture = magnetite.convert(SCENES[number].picture(320, 240, seed), "gray")
    whole = magnetite.convert(picture, f"middle width={side} height={side}")
    return magnetite.convert(whole, "depth bits=8") if whole.bits != 8 else whole


def loss(clean: Picture, worn: Picture, text: str, noise: float | None = None) -> float:
    """dB of PSNR that the choice without a reference costs against the best possible one."""
    chain = parse_chain(text, "restoration", auto=True)
    best = tune(worn, chain, "psnr", clean)
    blind = tune(worn, chain, "psnr", None, noise=noise)
    kept = not blind.chain.steps  # no value improves the picture
    after = worn if kept else magnetite.restore(worn, blind.chain).picture
    assert best.value is not None
    return best.value - magnetite.score(clean, after, "psnr")["psnr"]


BLURS = {
    "gaussian-blur sigma=1px": "sigma=1px", "gaussian-blur sigma=2px": "sigma=2px",
    "defocus radius=2px": "radius=2px", "motion-blur length=7px angle=30deg":
    "length=7px angle=30deg",
}  # fmt: skip


def deblurring_losses(
    method: str, blurs: list[str], noises: list[float], scenes: list[int]
) -> list[float]:
    found = []
    for blur, noise, number in itertools.product(blurs, noises, scenes):
        clean = scene(number)
        worn = magnetite.degrade(clean, f"{blur} + gaussian-noise sd={noise}dn", seed=5).picture
        name, setting = method.split()
        found.append(loss(clean, worn, f"{name} {BLURS[blur]} {setting}"))
    return found


@pytest.mark.long
def test_a_deblurring_is_tuned_without_a_reference() -> None:
    """The strength is not that of the least distance to the blurred picture."""
    found = deblurring_losses("wiener-deblur strength=auto", list(BLURS)[::3], [4], [4])
    assert max(found) < 0.6
    assert np.mean(np.array(found) < 0.3) >= 0.8
    clean = scene(0)
    worn = magnetite.degrade(clean, "gaussian-blur sigma=1.5px + gaussian-noise sd=1.5dn").picture
    for method in (
        "wiener-deblur sigma=1.5px strength=auto",
        "tv-deblur sigma=1.5px strength=auto",
    ):
        assert loss(clean, worn, method) < 0.3


@pytest.mark.long
@pytest.mark.parametrize(
    "method",
    ["wiener-deblur strength=auto", "tv-deblur strength=auto", "richardson-lucy smoothness=auto"],
)
def test_choices_hold_over_kernels_noises_and_pictures(method: str) -> None:
    found = deblurring_losses(method, list(BLURS), [0.5, 1.5, 5], [0, 1, 2, 3, 4])
    assert np.mean(np.array(found) < 0.3) >= 0.9
    assert np.mean(found) < 0.1


CASES = tuple(itertools.product(
    (1, 2, 3, 4), (3, 10),
    ("sliding-dct sd=auto", "total-variation strength=auto", "gaussian sigma=auto"),
))  # fmt: skip


def psnr_held(
    stated: bool, cases: Sequence[tuple[int, int, str]] = CASES, seeds: Sequence[int] = (3,)
) -> list[bool]:
    """Whether the interval of the estimated PSNR holds, where one is given."""
    held = []
    for (number, noise, text), seed in itertools.product(cases, seeds):
        clean = scene(number, 128, seed)
        worn = magnetite.degrade(
            clean, f"gaussian-noise sd={noise}dn", seed=number + seed - 3
        ).picture
        chain = parse_chain(text, "restoration", auto=True)
        sd = float(np.std(worn.pixels() - clean.pixels())) if stated else None
        found = tune(worn, chain, "psnr", None, noise=sd)
        assert found.risk is not None
        restored = magnetite.restore(worn, str(found.chain)).picture if found.chain.steps else worn
        psnr = magnetite.score(clean, restored, "psnr")["psnr"]
        risk = 10 ** (-psnr / 10)
        best = tune(worn, chain, "psnr", clean).value
        assert best is not None
        assert best - psnr < (0.3 if stated else 1.5), (number, noise, text)
        assert ("dB" in found.words) == found.risk.psnr
        if found.risk.psnr:
            held.append(abs(risk - found.risk.value) <= 1.96 * found.risk.error)
    return held


@pytest.mark.long
@pytest.mark.parametrize("stated", [True, False])
def test_the_estimated_psnr_holds_its_interval(stated: bool) -> None:
    held = psnr_held(stated, CASES[::6])
    if stated:  # of one probe alone this choice costs 0.85 dB
        held += psnr_held(stated, [(4, 10, "sliding-dct sd=auto")], (5,))
    assert sum(held) >= len(held) - 1
    assert len(held) >= 2


@pytest.mark.long
@pytest.mark.parametrize("stated", [True, False])
def test_the_estimated_psnr_holds_its_interval_over_all_cases(stated: bool) -> None:
    """Over methods, noises and pictures, with the sd stated and estimated."""
    held = psnr_held(stated, seeds=(3, 5, 7, 8))
    assert np.mean(held) >= 0.92
    assert len(held) >= 2 * len(CASES)


def test_the_error_of_an_estimated_noise_goes_into_that_of_the_risk() -> None:
    """The risk changes by 2 div / n - 1 times the variance of the noise; div is the kernel's middle
    for each sample.
    """
    rng = np.random.default_rng(2)
    samples = np.rint(60 + 130 * texture(96, 120) + rng.normal(0, 8, (96, 120)))
    picture = as_picture(samples.astype(np.uint8))
    chain = parse_chain("gaussian sigma=1", "restoration")
    noise = estimate(picture.pixels(), picture.frame.step)
    whole, known = (risk_of(picture, chain, sd, 0, None)[0](chain).error for sd in (None, noise.sd))
    middle = 1 / (2 * np.pi)
    spread = (noise.high**2 - noise.low**2) / (2 * 1.96)
    assert spread > 0
    assert np.sqrt(whole**2 - known**2) == pytest.approx((1 - 2 * middle) * spread, rel=0.05)


def test_the_risk_of_a_deblurring_is_its_weighted_error_in_the_mean() -> None:
    """Over draws of the noise; transfer function and weights as the source defines them."""
    sd, shape = 0.03, (24, 40, 3)
    clean = np.dstack([texture(24, 40, seed=k) for k in range(3)])

    def blurred(x: np.ndarray) -> np.ndarray:
        return gaussian_filter(x, (1, 1, 0), mode="reflect", truncate=6)

    def spectrum(x: np.ndarray) -> np.ndarray:
        return dctn(x, axes=(0, 1), norm="ortho")

    rng = np.random.default_rng(3)
    probe = rng.random(shape)
    transfer = (spectrum(blurred(probe)) / spectrum(probe))[..., :1]
    chain = parse_chain("wiener-deblur sigma=1px sd=3%", "restoration")
    estimates, errors = [], []
    for seed in range(40):
        worn = (blurred(clean) + rng.normal(0, sd, shape)).astype(np.float32)
        estimate, _ = risk_of(as_picture(worn, any_range=True), chain, sd, seed, None)
        estimates.append(estimate(chain).value)
        restored = magnetite.restore(as_picture(worn, any_range=True), chain).picture.samples
        power = _spectrum(worn, sd)[..., np.newaxis]
        weights = 1 / (transfer**2 + sd**2 / power)
        errors.append(np.mean(weights * spectrum(blurred(restored) - blurred(clean)) ** 2))
    gaps = np.array(estimates) - errors
    assert abs(gaps.mean()) < 4 * gaps.std() / 40**0.5
    assert 4 * gaps.std() / 40**0.5 < 0.2 * np.mean(errors)


def test_an_estimate_states_its_interval_in_decibels() -> None:
    """The mean squared error less and plus 1.96 standard errors."""
    assert Risk(1e-3, 1e-4, psnr=True).words == "estimated psnr 29.22 to 30.95 dB (95 %)"
    assert Risk(1e-4, 1e-4, psnr=True).words == "estimated psnr at least 35.29 dB"
    assert Risk(-1e-3, 1e-4, psnr=True).words.startswith("no psnr")
    assert Risk(1e-3, 1e-4).words == ""


def test_the_spectrum_of_a_picture_holds_its_variance_without_the_noise() -> None:
    pixels = texture(30, 40)
    power = _spectrum(pixels, 0.05)
    assert power.size == 1200
    within = power.ravel()[1:]
    assert within.sum() / 1200 == pytest.approx(pixels.var() - 0.05**2)
    assert power[6, 0] / power[3, 0] == pytest.approx(1 / 4)
    assert power[0, 8] / power[6, 0] == pytest.approx(1)  # of equal frequency, 0.1 c/px


def test_a_picture_that_no_value_improves_is_kept() -> None:
    """A Gaussian filter of at least half a px loses more of this grain than weak noise costs."""
    rng = np.random.default_rng(2)
    grain = as_picture(rng.integers(60, 196, (96, 96)).astype(np.uint8))
    worn = magnetite.degrade(grain, "gaussian-noise sd=1dn").picture
    done = magnetite.restore(worn, "mean size=auto", aim="psnr=best", noise_sd="1dn")
    assert done.tuned is not None
    assert done.tuned.useless
    assert "kept as it is" in done.tuned.words
    assert done.picture.same_samples(worn)


@pytest.mark.parametrize(
    "chain",
    ["deblock step=auto", "dequantize step=auto", "sharpen amount=auto", "dering range=auto",
     "anscombe full-well=1000e read=auto", "median + deblock step=auto"],
)  # fmt: skip
def test_where_no_estimate_is_known_none_is_given(chain: str) -> None:
    picture = as_picture((255 * texture(40, 40)).astype(np.uint8))
    parsed = parse_chain(chain, "restoration", auto=True)
    with pytest.raises(PictureError, match="no estimate of the error is known for"):
        tune(picture, parsed, "psnr", None)


def test_tuning_says_what_it_does(run: Run, tmp_path) -> None:  # type: ignore[no-untyped-def]
    clean = scene(4, 96)
    worn = magnetite.degrade(clean, "gaussian-noise sd=8dn").picture
    magnetite.write(worn, tmp_path / "n.png")
    words = ("restore", "n.png", "o.png", "sliding-dct", "sd=auto", "--aim", "psnr=best")
    stated = run(*words, "--noise-sd", "8dn").stderr
    assert "estimated psnr" in stated
    assert "by Stein's estimate for white Gaussian noise of sd 8 dn" in stated
    assert "dn, estimated: 7." in run(*words).stderr
    assert "8dn" in run(*words, "--noise-sd", "8", status=2).stderr
    blur = ("restore", "n.png", "o.png", "wiener-deblur", "sigma=auto", "--aim", "psnr=best")
    assert "the blur of wiener-deblur cannot be tuned" in run(*blur, status=2).stderr
    deblur = ("restore", "n.png", "o.png", "wiener-deblur", "sigma=1px", "strength=auto",
              "--aim", "psnr=best")  # fmt: skip
    assert "it ranks settings and does not estimate a psnr" in run(*deblur).stderr
    for bad, told in (
        ((*words, "--reference", "n.png", "--noise-sd", "8dn"), "goes with the aim"),
        (("restore", "n.png", "o.png", "median", "--noise-sd", "8dn"), "goes with the aim"),
        ((*words[:-1], "ssim=best"), "psnr alone"),
    ):
        assert told in run(*bad, status=2).stderr
    with pytest.raises(ChainError, match="one setting is tuned"):
        tune(worn, parse_chain("median", "restoration"), "psnr", None)
    oracle = tune(worn, parse_chain("sliding-dct sd=auto", "restoration", auto=True), "mse", clean)
    assert oracle.oracle
    assert "an oracle" in oracle.words
    best = magnetite.restore(worn, oracle.chain).picture
    assert oracle.value == pytest.approx(magnetite.score(clean, best, "mse")["mse"], rel=1e-3)


def test_a_best_value_at_an_end_of_the_range_is_said() -> None:
    """Of noise on a flat ground the widest filter is best, of a picture without noise none."""
    flat = as_picture(np.full((2, 900), 25_700, np.uint16))
    noisy = magnetite.degrade(flat, "gaussian-noise sd=8%", seed=1).picture
    chain = parse_chain("gaussian sigma=auto", "restoration", auto=True)
    said = {
        name: tune(worn, chain, "psnr", clean)
        for name, worn, clean in (
            ("widest", noisy, flat), ("narrowest", scene(0, 48), scene(0, 48)),
            ("between", magnetite.degrade(scene(4, 48), "gaussian-noise sd=9dn").picture,
             scene(4, 48)),
        )
    }  # fmt: skip
    assert [one.at_end for one in said.values()] == [True, True, False]
    words = "is best of {}, at an end of the range searched: psnr"
    assert words.format(said["widest"].tries) in said["widest"].words
    assert "range" not in said["between"].words
