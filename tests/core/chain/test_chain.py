"""Chain notation: one canonical spelling, sweeps, and errors that point at the word."""

from __future__ import annotations

import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import arguments
from magnetite.core.chain.notation import parse_chain, parse_step, parse_sweep
from magnetite.core.chain.ranges import expand_sweep
from magnetite.core.errors import ChainError
from magnetite.core.picture import as_picture

GRAY8 = as_picture(np.zeros((4, 4), np.uint8))
GRAY16 = as_picture(np.zeros((4, 4), np.uint16))
FLOAT = as_picture(np.zeros((4, 4), np.float32))


@pytest.mark.parametrize(
    ("text", "canonical"),
    [
        ("gaussian-noise sd=12.0dn", "gaussian-noise sd=12dn"),
        ("gaussian-noise   sd=0.05fs", "gaussian-noise sd=5%"),
        ("gaussian-blur sigma=1.60", "gaussian-blur sigma=1.6px"),
        ("gaussian-blur sigma=.5px", "gaussian-blur sigma=0.5px"),
        ("salt-pepper white=50% density=2%", "salt-pepper density=0.02"),
        ("salt-pepper per=channel density=.02", "salt-pepper density=0.02 per=channel"),
        ("gaussian-noise variance=64.0dn2", "gaussian-noise variance=64dn2"),
        ("gaussian-noise psnr=30 mean=0%", "gaussian-noise psnr=30dB"),
        ("banding angle=+30.0 amplitude=.5%", "banding amplitude=0.5% angle=30deg"),
        ("sensor-noise read=2dn full-well=1e4e", "sensor-noise full-well=10000e read=2dn"),
        ("psf-blur kernel=../a..b,c.npy", "psf-blur kernel=../a..b,c.npy"),
        ("quantize bits=5 + quantize bits=3", "quantize bits=5 + quantize bits=3"),
    ],
)
def test_a_chain_has_one_canonical_spelling(text: str, canonical: str) -> None:
    assert str(parse_chain(text, "degradation")) == canonical
    assert str(parse_chain(canonical, "degradation")) == canonical


def test_block_sizes_are_height_by_width() -> None:
    assert str(parse_step("dct block=8x8 step=8dn", "codec")) == "dct step=8dn block=8"
    step = parse_step("dct step=8dn block=2x8", "codec")
    assert str(step) == "dct step=8dn block=2x8"
    assert arguments(step, GRAY8)["block"] == (2, 8)


@given(
    sd=st.decimals(0, 100, allow_nan=False, places=4),
    sigma=st.decimals(0, 200, allow_nan=False, places=3),
    bits=st.integers(1, 16),
    order=st.permutations(range(3)),
)
def test_spelling_and_reading_are_inverse(
    sd: object, sigma: object, bits: int, order: list
) -> None:
    steps = [f"gaussian-noise sd={sd}%", f"gaussian-blur sigma={sigma}", f"quantize bits={bits}"]
    chain = parse_chain(" + ".join(steps[i] for i in order), "degradation")
    again = parse_chain(str(chain), "degradation")
    assert again == chain
    assert str(again) == str(chain)


def test_amplitudes_follow_the_bit_depth() -> None:
    def sd(text: str, picture: object) -> float:
        return arguments(parse_step(f"gaussian-noise sd={text}", "degradation"), picture)["sd"]

    assert sd("51dn", GRAY8) == pytest.approx(0.2)
    assert sd("13107dn", GRAY16) == pytest.approx(0.2)
    assert sd("20%", FLOAT) == sd("0.2fs", GRAY16) == pytest.approx(0.2)
    with pytest.raises(ChainError, match="a float picture has none: use % or fs"):
        sd("12dn", FLOAT)
    with pytest.raises(ChainError, match="outside 0dn to 255dn"):
        sd("256dn", GRAY8)


def test_units_become_what_the_method_takes() -> None:
    def argument(text: str, name: str, picture: object) -> float:
        return arguments(parse_step(text, "degradation"), picture)[name]

    variance = "gaussian-noise variance=65.025dn2"
    assert argument(variance, "variance", GRAY8) == pytest.approx(0.001)
    assert argument("gaussian-noise variance=0.002fs2", "variance", FLOAT) == 0.002
    sensor = "sensor-noise full-well=2550e read={}"
    assert argument(sensor.format("2dn"), "read", GRAY8) == pytest.approx(20)
    assert argument(sensor.format("1%"), "read", FLOAT) == pytest.approx(25.5)
    assert argument(sensor.format("3.5e"), "read", GRAY16) == 3.5
    with pytest.raises(ChainError, match="2dn needs a bit depth"):
        argument(sensor.format("2dn"), "read", FLOAT)
    with pytest.raises(ChainError, match="above 65025dn2, full scale squared"):
        argument("gaussian-noise variance=65026dn2", "variance", GRAY8)
    assert argument("bit-planes keep=3", "depth", GRAY16) == 16


def test_sweeps_expand_in_order() -> None:
    assert expand_sweep("1..41/20") == ["1", "21", "41"]
    assert expand_sweep("2..20dn/6") == ["2dn", "8dn", "14dn", "20dn"]
    assert expand_sweep("0.1..0.3/0.1,7") == ["0.1", "0.2", "0.3", "7"]
    chains = parse_sweep("gaussian-blur sigma=1,2 + gaussian-noise sd=2dn,6dn", "degradation")
    assert [str(chain) for chain in chains] == [
        "gaussian-blur sigma=1px + gaussian-noise sd=2dn",
        "gaussian-blur sigma=1px + gaussian-noise sd=6dn",
        "gaussian-blur sigma=2px + gaussian-noise sd=2dn",
        "gaussian-blur sigma=2px + gaussian-noise sd=6dn",
    ]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "the chain is empty"),
        ("gausian-noise sd=1dn", "word 1, 'gausian-noise': .* did you mean gaussian-noise?"),
        ("median size=3", "that is a restoration, and a degradation is wanted here"),
        ("gaussian-noise sd=25", "25 has no unit: write 25dn .*, 25% or 0.25fs"),
        ("gaussian-noise sd=25db", "unknown unit 'db' for an amplitude: use dn, % or fs"),
        ("gaussian-noise sd=-1dn", "-1dn is below 0dn"),
        ("gaussian-noise sd=101%", "101% is outside 0% to 100%"),
        ("gaussian-noise sd=many", "'many' is not a number"),
        ("gaussian-noise", "gaussian-noise needs sd=, such as gaussian-noise sd=8dn .* one of var"),
        ("gaussian-noise sd=1dn psnr=30", "takes one of sd=, variance=, .*, not sd=, psnr="),
        ("gaussian-noise variance=2", "2 has no unit: write 2dn2 .* or 0.0002fs2"),
        ("gaussian-noise variance=2dn", "unknown unit 'dn' for a variance: use dn2 or fs2"),
        ("gaussian-noise variance=1.5fs2", "1.5fs2 is outside 0fs2 to 1fs2"),
        ("gaussian-noise psnr=30db", "unknown unit 'db' for the ratio: use dB, or none"),
        ("banding amplitude=1% angle=1rad", "unknown unit 'rad' for the angle: use deg"),
        ("banding amplitude=1% angle=400", "400deg is outside -360deg to 360deg"),
        ("sensor-noise full-well=9000", "9000 has no unit: write 9000e \\(electrons\\)"),
        ("sensor-noise full-well=9000dn", "unknown unit 'dn' for a charge: use e"),
        ("sensor-noise full-well=9000e read=3", "3 has no unit: write 3e .*, 3dn .* or 3%"),
        ("bit-planes keep=3 depth=8", "bit-planes has no setting 'depth'"),
        ("bit-planes keep=3 drop=2", "takes one of keep=, drop="),
        ("gaussian-noise sd=1dn sd=2dn", "word 3, 'sd=2dn': sd is given twice"),
        ("gaussian-noise sd = 1dn", "word 2, 'sd': a setting .* is key=value without blanks"),
        ("gaussian-noise sd=1dn,2dn", "sweeps over 2 settings, and one is wanted"),
        ("quantize bits=5 + gaussian-blur sgima=2", "word 5, 'sgima=2': .* did you mean sigma?"),
        ("quantize bits=2.5", "'2.5' is not a whole number"),
        ("quantize bits=17", "17 is outside 1 to 16"),
        ("+ quantize bits=2", "a step is missing next to the '\\+'"),
        ("quantize bits=2 +", "a step is missing next to the '\\+'"),
        ("salt-pepper density=2% per=row", "'row' is none of pixel, channel"),
        ("salt-pepper density=120%", "120% is outside 0 to 1"),
        ("gaussian-noise sd=5dn..1dn/1dn", "must rise"),
        ("gaussian-noise sd=0..1dn/0.00001dn", "at most 1000 are allowed"),
        ("gaussian-noise sd=1dn..2%", "mixes the units % and dn"),
    ],
)
def test_errors_point_at_the_word(text: str, message: str) -> None:
    with pytest.raises(ChainError, match=re.compile(message)):
        parse_chain(text, "degradation")


def test_a_range_may_hold_one_value_and_no_falling_ones() -> None:
    assert expand_sweep("5dn..5dn") == ["5dn"]
    assert expand_sweep("1..2/0.5,9") == ["1", "1.5", "2", "9"]
    with pytest.raises(ValueError, match="must rise"):
        expand_sweep("5..4")
