"""Streams decoded by a decoder that was written from the page on the format alone."""

from __future__ import annotations

import zlib
from collections.abc import Callable

import numpy as np
import pytest

import magnetite
import slow_dct
import slow_decoder
import slow_lowrank
import slow_samples
import slow_wavelet
from conftest import texture
from magnetite.core.codecs.entropy.coder import SQUASH, STRETCH


def picture(height: int, width: int, bits: int = 8) -> magnetite.Picture:
    rng = np.random.default_rng(2)
    values = texture(height, width) + rng.normal(0, 0.03, (height, width))
    samples = np.rint(values.clip(0, 1) * (2**bits - 1))
    return magnetite.Picture(samples.astype(np.uint8 if bits <= 8 else np.uint16), bits, "gray")


def agrees(decoded: np.ndarray, ours: magnetite.Picture) -> None:
    """Single precision may round one sample in many to the other side."""
    gaps = np.abs(decoded - ours.samples)
    assert gaps.max() <= 1
    assert (gaps > 0).mean() < 0.003


@pytest.mark.parametrize(("step", "side"), [(0.01, 8), (0.08, 8), (0.04, 5)])
def test_block_transform(step: float, side: int) -> None:
    source = picture(37, 50)
    made = magnetite.compress(source, f"dct step={100 * step:g}% block={side}")
    agrees(slow_dct.dct(made.data, step, (side, side)), made.picture)


def colours(height: int, width: int) -> magnetite.Picture:
    samples = picture(height, width).samples
    return magnetite.Picture(np.dstack([samples, samples[::-1], 255 - samples]), 8, "rgb")


def planes(count: int) -> magnetite.Picture:
    """Twelve bits; each plane is moved by two samples from the one before."""
    moved = [np.roll(picture(20, 30, 12).samples, 2 * k, axis=1) for k in range(count)]
    return magnetite.Picture(np.dstack(moved), 12, "planes")


@pytest.mark.parametrize("step", [0.001, 0.02, 0.1])
@pytest.mark.parametrize("backend", ["zlib", "raw"])
def test_back_ends(step: float, backend: str) -> None:
    made = magnetite.compress(
        picture(37, 50), f"dct step={100 * step:g}% backend={backend} block=8"
    )
    agrees(slow_dct.dct(made.data, step, (8, 8), backend=backend), made.picture)


@pytest.mark.parametrize("block", [(8, 5), (40, 60), (16, 16), (4, 4)])
def test_sides_and_weights(block: tuple[int, int]) -> None:
    sides = f"{block[0]}x{block[1]}"
    made = magnetite.compress(picture(37, 50), f"dct step=2% block={sides} weights=t81")
    agrees(slow_dct.dct(made.data, 0.02, block, weights="t81"), made.picture)


@pytest.mark.parametrize("colour", ["luma-chroma", "half-chroma", "none"])
@pytest.mark.parametrize(("height", "width"), [(20, 27), (1, 9), (2, 2)])
def test_colours(colour: str, height: int, width: int) -> None:
    made = magnetite.compress(colours(height, width), f"dct step=3% colour={colour}")
    agrees(slow_dct.dct(made.data, 0.03, None, colour=colour), made.picture)


def test_stacks_of_planes() -> None:
    made = magnetite.compress(planes(7), "dct step=2% block=8x8x3")
    agrees(slow_dct.dct(made.data, 0.02, (8, 8, 3)), made.picture)
    made = magnetite.compress(planes(8), "dct step=2% block=8x8x2x3 stack=2x4")
    agrees(slow_dct.dct(made.data, 0.02, (8, 8, 2, 3), stack=(2, 4)), made.picture)


@pytest.mark.parametrize(
    ("height", "width", "step"), [(72, 75, 0.05), (33, 34, 0.2), (8, 40, 0.1), (24, 70, 0.3)]
)
def test_joined_blocks(height: int, width: int, step: float) -> None:
    """An even half is joined, a rough one is not."""
    rough = picture(height, width).samples.astype(float)
    y, x = np.mgrid[:height, :width]
    smooth = 128 + 60 * np.sin(x / 40) * np.cos(y / 30)
    samples = np.rint(np.where(x > 40, rough, smooth)).astype(np.uint8)
    source = magnetite.Picture(samples, 8, "gray")
    made = magnetite.compress(source, f"dct step={100 * step:g}%")
    agrees(slow_dct.dct(made.data, step, None), made.picture)
    sides, _ = slow_dct.sizes(
        slow_decoder.Container(made.data).sections[0][1:], (-(-height // 8), -(-width // 8))
    )
    largest = max(n for n in (1, 2, 4) if height >= 8 * n)
    assert {1, largest} <= set(sides.ravel().tolist())


@pytest.mark.parametrize(("bits", "bound"), [(8, 0), (8, 3), (12, 0), (1, 0)])
def test_prediction(bits: int, bound: int) -> None:
    source = picture(41, 33, bits)
    made = magnetite.compress(source, f"predictive bound={bound}")
    np.testing.assert_array_equal(slow_samples.predictive(made.data, bound), made.picture.samples)
    assert np.abs(made.picture.samples.astype(int) - source.samples).max() <= bound


@pytest.mark.parametrize("bound", [0, 2])
def test_prediction_of_colours(bound: int) -> None:
    made = magnetite.compress(colours(30, 31), f"predictive bound={bound}")
    np.testing.assert_array_equal(slow_samples.predictive(made.data, bound), made.picture.samples)


@pytest.mark.parametrize(
    ("height", "width", "step", "colour"),
    [
        (45, 62, 0.01, "gray"), (33, 32, 0.06, "gray"), (9, 70, 0.02, "gray"),
        (33, 32, 0.06, "luma-chroma"), (9, 70, 0.02, "none"), (21, 30, 0.01, "luma-chroma"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("name", ["9/7", "5/3"])
def test_wavelets(height: int, width: int, step: float, colour: str, name: str) -> None:
    source, setting = picture(height, width), ""
    if colour != "gray":
        source, setting = colours(height, width), f" colour={colour}"
    made = magnetite.compress(
        source, f"wavelet step={100 * step:g}% levels=4 filter={name}{setting}"
    )
    luma = colour != "none"
    agrees(slow_wavelet.wavelet(made.data, step, 4, name, luma=luma), made.picture)


def test_wavelets_without_loss_and_of_one_step() -> None:
    """Of Haar's filter many values lie halfway; without smoothing, none beyond."""
    made = magnetite.compress(colours(37, 50), "wavelet step=1dn filter=5/3 levels=3")
    np.testing.assert_array_equal(
        slow_wavelet.wavelet(made.data, 1 / 255, 3, "5/3"), made.picture.samples
    )
    made = magnetite.compress(picture(37, 50, 12), "wavelet step=3.3% filter=haar smooth=off")
    agrees(slow_wavelet.wavelet(made.data, 0.033, 6, "haar"), made.picture)


def test_haar_coefficients_at_the_threshold_of_smoothing() -> None:
    """Single precision decides on which side of it they are: hundredths of a step at most."""
    made = magnetite.compress(picture(40, 30, 16), "wavelet step=4% filter=haar")
    assert slow_decoder.Container(made.data).sections[0][1] > 0
    gaps = slow_wavelet.wavelet(made.data, 0.04, 6, "haar") - made.picture.samples
    assert np.abs(gaps).max() < 0.05 * 0.04 * 65535


def varint(number: int) -> bytes:
    low, rest = number & 127, number >> 7
    return bytes([low | 128]) + varint(rest) if rest else bytes([low])


def cut(data: bytes, length: int) -> bytes:
    """A file whose only section is cut, with the checksums of what is left."""
    (section,) = slow_decoder.Container(data).sections
    head = data[: len(data) - len(section) - 8 - len(varint(len(section)))] + varint(length)
    head += zlib.crc32(section[:length]).to_bytes(4, "little")
    return head + zlib.crc32(head).to_bytes(4, "little") + section[:length]


@pytest.mark.parametrize("share", [0.05, 0.3, 0.9])
def test_wavelets_that_are_cut(share: float) -> None:
    data = magnetite.compress(picture(40, 56, 16), "wavelet levels=4 step=2%").data
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
        ("pcm bits=3", lambda data: slow_samples.pcm(data, 3)),
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
