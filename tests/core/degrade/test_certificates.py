"""Standard errors of certificates against the spread of many draws; pictures without light."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

import magnetite
from conftest import texture
from magnetite.core.degrade.certify.change import Finding
from magnetite.core.degrade.certify.noise import LAPLACE, NORMAL, UNIFORM, moments
from magnetite.core.errors import InputError
from magnetite.core.methods.catalogue import every
from magnetite.core.operations.certificate import WORTH_SAYING, storage_advice
from magnetite.core.picture import Clipped, as_picture

#: Float, so that nothing is rounded or clipped.
MID_GRAY = as_picture(np.full((64, 64), 0.5, np.float32))
GRAY = as_picture(np.full((40, 40), 128, np.uint8))
COLOUR = as_picture(np.full((48, 48, 3), 0.5, np.float32))
DRAWS = 80
#: Every degradation of random numbers whose figures have an error, and some settings of theirs.
CHAINS = [
    "gaussian-noise sd=3%", "laplace-noise sd=3%", "uniform-noise sd=3%",
    "coloured-noise sd=3%", "coloured-noise sd=3% slope=0.5", "coloured-noise sd=3% slope=2",
    "poisson-noise photons=400", "speckle contrast=10%",
    "speckle contrast=10% distribution=gaussian", "sensor-noise full-well=9000e read=20e",
    "sensor-noise full-well=9000e read=20e row=10e dsnu=5e prnu=1%",
    "impulse-noise density=5%", "salt-pepper density=5%",
]  # fmt: skip


@pytest.mark.parametrize("shape", [(12, 9), (7, 5, 3)])
def test_moments_are_their_definitions(shape: tuple[int, ...]) -> None:
    """Of few samples, so that their mean is far from the declared one."""
    x = np.random.default_rng(4).gamma(2, 1, shape)
    found = moments(x, NORMAL.cumulative, 1.0, 2.0)
    d = x - x.mean()
    m2 = (d**2).mean()
    assert (found.count, found.mean) == (x.size, pytest.approx(x.mean()))
    assert found.sd == pytest.approx(math.sqrt(m2))
    assert found.skewness == pytest.approx(stats.skew(x, axis=None))
    assert found.kurtosis == pytest.approx(stats.kurtosis(x, axis=None))
    assert found.lag_one == pytest.approx((d[:, 1:] * d[:, :-1]).sum() / (m2 * d.size))
    assert found.distance == pytest.approx(
        stats.kstest(x.ravel(), "norm", (1.0, 2.0)).statistic, abs=0.005
    )


def test_errors_of_moments_are_their_closed_forms() -> None:
    root = (NORMAL.sd_error, NORMAL.skewness_error, NORMAL.kurtosis_error)
    assert root == pytest.approx((math.sqrt(0.5), math.sqrt(6), math.sqrt(24)))
    z = np.linspace(-3, 3, 41)
    for law, known, moment in (
        (NORMAL, stats.norm(), lambda k: math.prod(range(1, k, 2))),
        (UNIFORM, stats.uniform(-0.5, 1), lambda k: 3 ** (k / 2) / (k + 1)),
        (LAPLACE, stats.laplace(), lambda k: math.factorial(k) / 2 ** (k / 2)),
    ):
        assert [law.fourth, law.sixth, law.eighth] == pytest.approx([moment(k) for k in (4, 6, 8)])
        np.testing.assert_allclose(law.cumulative(z), known.cdf(z * known.std()), atol=1e-12)


def test_the_drawn_psnr_counts_the_mean_of_few_samples() -> None:
    small = as_picture(np.full((3, 4), 0.5))
    made = magnetite.degrade(small, "gaussian-noise psnr=30", seed=2)
    (found,) = (one for one in made.certificate.steps[0].findings if one.quantity == "psnr")
    error = made.picture.samples - small.samples
    assert abs(error.mean()) > 0.1 * error.std()
    assert found.drawn == pytest.approx(-10 * math.log10((error**2).mean()), abs=1e-6)


def test_every_degradation_with_errors_is_here() -> None:
    named = {chain.split()[0] for chain in CHAINS}
    for method in every("degradation"):
        try:
            certificate = magnetite.degrade(GRAY, method.example).certificate
        except InputError:  # it needs colours, a file
            continue
        errors = [one.standard_error for step in certificate.steps for one in step.findings]
        assert (method.name in named) == any(errors), method.name


@pytest.mark.parametrize("chain", CHAINS)
@pytest.mark.parametrize("picture", [MID_GRAY, COLOUR], ids=["gray", "rgb"])
def test_standard_errors_are_the_spread_of_the_draws(chain: str, picture: object) -> None:
    drawn: dict[str, list[tuple[float, float]]] = {}
    for seed in range(DRAWS):
        for step in magnetite.degrade(picture, chain, seed=seed).certificate.steps:
            for one in step.findings:
                if one.standard_error and not one.distribution:
                    drawn.setdefault(one.quantity, []).append((one.drawn, one.standard_error))
    assert drawn
    for quantity, pairs in drawn.items():
        values, errors = np.array(pairs).T
        ratio = values.std(ddof=1) / np.sqrt(np.mean(errors**2))
        assert math.exp(abs(math.log(ratio))) < 1.3, (quantity, ratio)


@pytest.mark.parametrize("value", [0, 255])
@pytest.mark.parametrize("shape", [(20, 24), (1, 1), (1, 30), (9, 9, 3)])
def test_pictures_without_light_or_room_are_certified_or_refused(
    shape: tuple[int, ...], value: int
) -> None:
    flat = as_picture(np.full(shape, value, np.uint8))
    for method in every("degradation"):
        try:
            certificate = magnetite.degrade(flat, method.example).certificate
        except InputError:
            continue
        for one in [one for step in certificate.steps for one in step.findings]:
            numbers = [one.asked, one.drawn, one.stored, one.standard_error]
            known = [number for number in numbers if number is not None]
            assert all(map(math.isfinite, known)), (method.name, one)


def test_storing_that_changes_the_noise_is_said_with_the_change() -> None:
    def advice(stored: float, clipped: int = 0, bits: int | None = 8) -> str:
        found = [Finding("sd", "dn", 1.0, 1.0, stored)]
        return " ".join(storage_advice(found, Clipped(clipped, 0, 100), bits))

    assert advice(1 + 0.9 * WORTH_SAYING) == advice(1 - 0.9 * WORTH_SAYING) == ""
    assert advice(1.2, bits=None) == ""
    assert advice(1.2).startswith("rounding to 8 bits leaves the noise 20.0% stronger")
    assert advice(1.2, 9).startswith("rounding to 8 bits")
    assert advice(0.8, 9).startswith("clipping leaves the noise 20.0% weaker")
    assert "8 bits leaves the noise 20.0% weaker" in advice(0.8)


def test_the_rate_is_that_of_the_last_codec() -> None:
    source = as_picture(np.rint(255 * texture(40, 50)).astype(np.uint8))
    assert magnetite.degrade(source, "gaussian-noise sd=2%").certificate.rate is None
    rate = magnetite.compress(source, "dct step=8%").bpp
    for chain in ("dct step=8%", "pcm bits=8 + dct step=8%", "dct step=8% + box-blur size=3"):
        assert magnetite.degrade(source, chain).certificate.rate == rate
