"""Codecs and the container: exact where they must be, refused where they are damaged."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import magnetite
from conftest import sample_pictures, texture
from magnetite.core.codecs.backend import BACK_ENDS
from magnetite.core.codecs.blocks import Blocks
from magnetite.core.codecs.container import MAGIC, unpack
from magnetite.core.codecs.dct import dct
from magnetite.core.codecs.layers import Frame
from magnetite.core.codecs.transform import CosineTransform
from magnetite.core.errors import StreamError
from magnetite.core.picture import Picture

BLOCKS = ["8", "16", "2x8", "1", "7x13", "200"]


@pytest.mark.parametrize("block", BLOCKS)
def test_any_block_size_round_trips(picture: Picture, block: str) -> None:
    coded = magnetite.compress(picture, f"dct step=1% block={block}")
    again = magnetite.expand(coded.data)
    assert (again.colour, again.bits, again.samples.shape) == (
        picture.colour, picture.bits, picture.samples.shape,
    )  # fmt: skip
    error = np.abs(again.pixels() - picture.pixels().astype(np.float32)).max()
    assert error < 0.05
    assert sum(coded.parts.values()) == len(coded.data)
    assert coded.bpp == 8 * len(coded.data) / (picture.height * picture.width)
    sample_bits = picture.bits or 8 * picture.samples.itemsize
    assert coded.ratio == pytest.approx(picture.samples.size * sample_bits / 8 / len(coded.data))


@given(
    height=st.integers(1, 20), width=st.integers(1, 20),
    block=st.tuples(st.integers(1, 24), st.integers(1, 24)),
)  # fmt: skip
def test_blocks_pad_and_crop_exactly(height: int, width: int, block: tuple[int, int]) -> None:
    plane = texture(height, width).astype(np.float32)
    layer = Blocks(height, width, block)
    (stack,) = layer.forward([plane])
    assert stack.shape[1:] == (min(block[0], height), min(block[1], width))
    np.testing.assert_array_equal(layer.backward([stack])[0], plane)


def test_the_transform_keeps_energy() -> None:
    """Parseval: the error of the coefficients is the error of the samples."""
    stack = texture(64, 64).reshape(-1, 8, 8)
    (coefficients,) = CosineTransform().forward([stack])
    assert (coefficients**2).sum() == pytest.approx((stack**2).sum())
    flat = np.ones((1, 4, 4))
    (one,) = CosineTransform().forward([flat])
    assert one[0, 0, 0] == pytest.approx(4)
    assert np.abs(one).sum() == pytest.approx(4)


def test_the_error_follows_the_step() -> None:
    pixels = np.random.default_rng(0).random((128, 128)).astype(np.float32)
    frame = Frame(128, 128, 1, "gray")
    for step in (0.01, 0.02, 0.04):
        pipeline = dct(frame, step=step)
        decoded = pipeline.backward([s.data for s in pipeline.forward(pixels)])
        assert ((decoded - pixels) ** 2).mean() == pytest.approx(step**2 / 12, rel=0.03)


def test_finer_steps_cost_more_and_score_better() -> None:
    points = magnetite.curve(sample_pictures()["rgb 8"], "dct step=2%,4%,8%,16%")
    assert [p.step for p in points] == [f"dct step={s}%" for s in (16, 8, 4, 2)]
    for metric in ("psnr", "ssim"):
        scores = [p.scores[metric] for p in points]
        assert scores == sorted(scores)


@pytest.mark.parametrize("name", sorted(BACK_ENDS))
@given(numbers=st.lists(st.integers(-(2**24), 2**24), max_size=60), spread=st.integers(1, 2**24))
def test_back_ends_are_lossless(name: str, numbers: list[int], spread: int) -> None:
    array = np.array(numbers, np.int32) // spread
    data = BACK_ENDS[name].pack(array)
    np.testing.assert_array_equal(BACK_ENDS[name].unpack(data, array.size), array)
    for count in (array.size + 1, array.size - 1):
        if count >= 0:
            with pytest.raises(StreamError):
                BACK_ENDS[name].unpack(data, count)


def test_back_ends_decode_to_the_same_picture(picture: Picture) -> None:
    packed, raw = (magnetite.compress(picture, f"dct step=3% backend={b}") for b in BACK_ENDS)
    assert packed.picture.same_samples(raw.picture)
    assert len(packed.data) < len(raw.data)


def test_the_header_is_as_documented() -> None:
    samples = np.full((3, 300), 128, np.uint8)
    data = magnetite.compress(samples, "dct step=8dn").data
    expected = MAGIC + bytes([1, 8, 0, 3, 0xAC, 0x02, 1, 12]) + b"dct step=8dn" + bytes([1])
    assert data.startswith(expected)
    stream = unpack(data)
    assert len(data) == len(expected) + 1 + len(stream.sections[0]) + 4


def _damage(data: bytes, rng: np.random.Generator) -> bytes:
    """Flip, cut, append or overwrite; sometimes with the checksum put right again."""
    import zlib

    changed = bytearray(data)
    kind = rng.integers(4)
    if kind == 0:
        changed[rng.integers(len(changed))] ^= 1 << int(rng.integers(8))
    elif kind == 1:
        del changed[int(rng.integers(len(changed))) :]
    elif kind == 2:
        changed += rng.bytes(int(rng.integers(1, 9)))
    else:
        changed[rng.integers(len(changed))] = int(rng.integers(256))
    if rng.random() < 0.7 and len(changed) > 4:
        changed[-4:] = zlib.crc32(bytes(changed[:-4])).to_bytes(4, "little")
    return bytes(changed)


def _mutate(count: int) -> None:
    rng = np.random.default_rng(11)
    streams = [
        magnetite.compress(sample_pictures()[name], "dct step=4% block=7").data
        for name in ("gray 8", "rgb 16", "gray float")
    ]
    refused = 0
    for i in range(count):
        data = _damage(streams[i % len(streams)], rng)
        try:
            magnetite.expand(data, max_samples=2**20)
        except StreamError as error:
            refused += 1
            assert "\n" not in str(error)
    assert refused > count / 4


def test_damaged_streams_are_refused_cleanly() -> None:
    _mutate(1500)


@pytest.mark.long
def test_many_damaged_streams_are_refused_cleanly() -> None:
    _mutate(100_000)


def test_truncation_anywhere_is_refused() -> None:
    data = magnetite.compress(sample_pictures()["gray 8"], "dct step=4%").data
    for end in range(len(data)):
        with pytest.raises(StreamError):
            magnetite.expand(data[:end])


def test_huge_declarations_are_refused_before_allocation() -> None:
    import zlib

    body = MAGIC + bytes([1, 8, 0]) + b"\xff\xff\xff\x7f\xff\xff\xff\x7f\x01"
    body += bytes([12]) + b"dct step=8dn" + bytes([1, 0])
    with pytest.raises(StreamError, match="samples; at most"):
        magnetite.expand(body + zlib.crc32(body).to_bytes(4, "little"))


@settings(max_examples=30)
@given(shape=st.sampled_from([(1, 1), (1, 17), (23, 1), (3, 5)]), bits=st.sampled_from([1, 8, 16]))
def test_tiny_pictures_round_trip(shape: tuple[int, int], bits: int) -> None:
    dtype = np.uint8 if bits <= 8 else np.uint16
    samples = (texture(*shape) * (2**bits - 1)).astype(dtype)
    coded = magnetite.compress(Picture(samples, bits, "gray"), "dct step=0.001%")
    np.testing.assert_array_equal(coded.picture.samples, samples)
