"""Streams decoded by a decoder that was written from the page on the format alone."""

from __future__ import annotations

import zlib
from collections.abc import Callable

import numpy as np
import pytest

import magnetite
import slow_decoder
import slow_lowrank
import slow_wavelet
from conftest import texture
from magnetite.core.codecs.entropy.coder import SQUASH, STRETCH


def picture(height: int, width: int, bits: int = 8) -> magnetite.Picture:
    rng = np.random.default_rng(2)
    values = texture(height, width) + rng.normal(0, 0.03, (height, width))
    samples = np.rint(values.clip(0, 1) * (2**bits - 1))
    return magnetite.Picture(samples.astype(np.uint8 if bits <= 8 else np.uint16), bits, "gray")


@pytest.mark.parametrize(("step", "side"), [(0.01, 8), (0.08, 8), (0.04, 5)])
def test_block_transform(step: float, side: int) -> None:
    source = picture(37, 50)
    made = magnetite.compress(source, f"dct step={100 * step:g}% block={side}")
    decoded = slow_decoder.dct(made.data, step, side)
    # Single precision may round one sample in many to the other side.
    assert np.abs(decoded - made.picture.samples).max() <= 1
    assert (decoded != made.picture.samples).mean() < 0.002


def test_colours_are_luma_and_chroma() -> None:
    source = magnetite.Picture(np.dstack([
        picture(33, 41).samples, picture(33, 41).samples[::-1], 255 - picture(33, 41).samples,
    ]), 8, "rgb")  # fmt: skip
    made = magnetite.compress(source, "dct step=3%")
    decoded = slow_decoder.dct(made.data, 0.03, None)
    assert np.abs(decoded - made.picture.samples).max() <= 1
    assert (decoded != made.picture.samples).mean() < 0.002


@pytest.mark.parametrize(
    ("height", "width", "step"), [(100, 75, 0.05), (33, 34, 0.2), (8, 40, 0.1), (24, 70, 0.3)]
)
def test_joined_blocks(height: int, width: int, step: float) -> None:
    """An even half is joined, a rough one is not."""
    rough = picture(height, width).samples.astype(float)
    y, x = np.mgrid[:height, :width]
    smooth = 128 + 60 * np.sin(x / 40) * np.cos(y / 30)
    samples = np.rint(np.where(x > 40, rough, smooth)).astype(np.uint8)
    source = magnetite.Picture(samples, 8, "gray")
    made = magnetite.compress(source, f"dct step={100 * step:g}%")
    decoded = slow_decoder.dct(made.data, step, None)
    assert np.abs(decoded - made.picture.samples).max() <= 1
    assert (decoded != made.picture.samples).mean() < 0.002
    sides, _ = slow_decoder.sizes(
        slow_decoder.Container(made.data).sections[0][1:], (-(-height // 8), -(-width // 8))
    )
    largest = max(n for n in (1, 2, 4) if height >= 8 * n)
    assert {1, largest} <= set(sides.ravel().tolist())


@pytest.mark.parametrize(("bits", "bound"), [(8, 0), (8, 3), (12, 0), (1, 0)])
def test_prediction(bits: int, bound: int) -> None:
    source = picture(41, 33, bits)
    made = magnetite.compress(source, f"predictive bound={bound}")
    np.testing.assert_array_equal(slow_decoder.predictive(made.data, bound), made.picture.samples)
    assert np.abs(made.picture.samples.astype(int) - source.samples).max() <= bound


@pytest.mark.parametrize(
    ("height", "width", "step"), [(45, 62, 0.01), (33, 32, 0.06), (9, 70, 0.02)]
)
def test_wavelets(height: int, width: int, step: float) -> None:
    source = picture(height, width)
    made = magnetite.compress(source, f"wavelet step={100 * step:g}% levels=4")
    decoded = slow_wavelet.wavelet(made.data, step, 4)
    assert np.abs(decoded - made.picture.samples).max() <= 1
    assert (decoded != made.picture.samples).mean() < 0.002


def varint(number: int) -> bytes:
    low, rest = number & 127, number >> 7
    return bytes([low | 128]) + varint(rest) if rest else bytes([low])


def cut(data: bytes, length: int) -> bytes:
    """A file whose only section is cut, with the checksums of what is left."""
    (section,) = slow_decoder.Container(data).sections
    head = data[: len(data) - len(section) - 8 - len(varint(len(section)))] + varint(length)
    head += zlib.crc32(section[:length]).to_bytes(4, "little")
    return head + zlib.crc32(head).to_bytes(4, "little") + section[:length]


@pytest.mark.parametrize("share", [0.05, 0.3, 0.7, 0.9])
def test_wavelets_that_are_cut(share: float) -> None:
    data = magnetite.compress(picture(64, 80, 16), "wavelet levels=4 step=2%").data
    part = cut(data, int(share * len(data)))
    decoded = slow_wavelet.wavelet(part, 0.02, 4)
    assert np.abs(decoded - magnetite.expand(part).samples).max() <= 2


@pytest.mark.parametrize(
    ("step", "decode"),
    [
        ("svd rank=5 step=1%", lambda data: slow_lowrank.svd(data, 0.01)),
        ("svd rank=3 block=7 step=1%", lambda data: slow_lowrank.svd_of_blocks(data, 0.01, 7)),
        ("pca components=4 step=1%", lambda data: slow_lowrank.pca(data, 0.01)),
        ("fourier keep=20%", lambda data: slow_lowrank.fourier(data, 6)),
        ("fourier keep=4% phase-bits=3", lambda data: slow_lowrank.fourier(data, 3)),
        ("bit-planes keep=5", lambda data: slow_lowrank.bit_planes(data, 5, gray=True)),
        ("bit-planes keep=3 code=binary", lambda d: slow_lowrank.bit_planes(d, 3, gray=False)),
        ("bit-planes keep=8", lambda data: slow_lowrank.bit_planes(data, 8, gray=True)),
        ("pcm bits=3", lambda data: slow_lowrank.pcm(data, 3)),
    ],
)  # fmt: skip
@pytest.mark.parametrize(("height", "width"), [(37, 50), (24, 33)])
def test_other_codecs(
    step: str, decode: Callable[[bytes], np.ndarray], height: int, width: int
) -> None:
    made = magnetite.compress(picture(height, width), step)
    decoded = decode(made.data)
    assert np.abs(decoded - made.picture.samples).max() <= (step[0] not in "b")
    assert (decoded != made.picture.samples).mean() < 0.003


def test_numbers_of_every_size() -> None:
    rng = np.random.default_rng(4)
    numbers = np.rint(rng.standard_cauchy((3, 4, 3, 4)) * 40).clip(-(2**24), 2**24).astype(np.int32)
    from magnetite.core.codecs.layers.backend import BACK_ENDS

    data = BACK_ENDS["range"].pack(numbers)
    np.testing.assert_array_equal(slow_decoder.blocks(data, numbers.shape), numbers)


@pytest.mark.parametrize("rate", [0.3, 0.9, 2.4])
def test_the_rate_of_a_stream_that_is_cut_is_that_of_its_bytes(rate: float) -> None:
    source = picture(64, 80)
    cut = magnetite.compress(source, "wavelet", rate=rate)
    assert cut.size == len(cut.data) == sum(cut.parts.values())
    assert cut.bpp == 8 * len(cut.data) / (64 * 80)
    assert 0.97 * rate < cut.bpp <= rate
    assert magnetite.expand(cut.data).same_samples(cut.picture)


def test_the_coder_maps_probabilities_by_the_logistic_function() -> None:
    """Tables have an entry for each of 4096 probabilities, and come back to them."""
    p = (np.arange(4096) + 0.5) / 4096
    np.testing.assert_array_equal(STRETCH, np.rint(256 * np.log(p / (1 - p))))
    back = SQUASH[STRETCH + SQUASH.size // 2] / 65536
    assert np.abs(np.log(back / (1 - back)) - np.log(p / (1 - p))).max() <= 1 / 8
    inner = abs(p - 0.5) < 0.49
    np.testing.assert_allclose(back[inner], p[inner], atol=1 / 1024)
