"""Conversions against their definitions, and the command that applies them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import magnetite
from conftest import Run
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture

RGB = np.random.default_rng(3).integers(0, 256, (12, 20, 3)).astype(np.uint8)


@pytest.mark.parametrize(
    ("weights", "shares"),
    [("bt601", (0.299, 0.587, 0.114)), ("bt709", (0.2126, 0.7152, 0.0722)), ("mean", (1 / 3,) * 3)],
)
def test_gray_is_its_weighted_sum(weights: str, shares: tuple[float, ...]) -> None:
    exact = RGB.astype(float) @ np.array(shares)
    made = magnetite.convert(RGB, f"gray weights={weights}")
    assert (made.colour, made.bits) == ("gray", 8)
    assert np.abs(made.samples - exact).max() <= 0.5 + 1e-4
    assert magnetite.convert(RGB, "gray").same_samples(Picture(RGB, 8, "rgb").luma())


@given(st.integers(1, 16), st.integers(0, 15))
def test_more_bits_and_back_lose_nothing(bits: int, more: int) -> None:
    wide = min(16, bits + more)
    levels = np.arange(2**bits, dtype=np.uint8 if bits <= 8 else np.uint16)[None]
    picture = Picture(levels, bits, "gray")
    there = magnetite.convert(picture, f"depth bits={wide}")
    assert there.samples.max() == 2**wide - 1
    assert magnetite.convert(there, f"depth bits={bits}").same_samples(picture)


def test_parts_and_channels_keep_their_samples() -> None:
    made = magnetite.convert(RGB, "crop left=3 top=2 width=5 height=4 + channel number=2")
    np.testing.assert_array_equal(made.samples, RGB[2:6, 3:8, 1])
    made = magnetite.convert(RGB, "middle width=6 height=99")
    np.testing.assert_array_equal(made.samples, RGB[:, 7:13])


@pytest.mark.parametrize(
    ("steps", "words"),
    [
        ("channel number=4", "has 3 channels"),
        ("crop width=30 height=2", "leaves"),
        ("gray + channel number=2", "has 1 channel "),
    ],
)
def test_what_a_picture_does_not_have_is_refused(steps: str, words: str) -> None:
    with pytest.raises(PictureError, match=words):
        magnetite.convert(RGB, steps)


def test_convert_and_reading_with_a_conversion_agree(run: Run, tmp_path: Path) -> None:
    magnetite.write(Picture(RGB, 8, "rgb"), tmp_path / "a.png")
    magnetite.write(Picture(RGB[::-1].copy(), 8, "rgb"), tmp_path / "b.png")
    steps = ["gray", "weights=bt709", "+", "depth", "bits=12"]
    for name in "ab":
        run("convert", f"{name}.png", f"{name}.tif", *steps)
    assert magnetite.read(tmp_path / "a.tif").describe() == "20x12 gray, 12 bits"
    plain = run("score", "a.tif", "b.tif", "--format", "csv").stdout.replace(".tif", ".png")
    on_reading = run(
        "--convert", "gray weights=bt709 + depth bits=12", "score", "a.png", "b.png",
        "--format", "csv",
    ).stdout  # fmt: skip
    assert plain == on_reading
    for words in (("a.png",), ("c.png", "gaussian-noise", "sd=2%"), ("c.bmp", "depth", "bits=12")):
        bad = run("convert", "a.png", *words, status=2)
        assert bad.stderr.count("\n") <= 1, bad.stderr
    assert not list(tmp_path.glob("c.*"))
