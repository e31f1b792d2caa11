"""Parts of codecs: blocks, wavelets, the range coder."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import texture
from magnetite.core.codecs.entropy.coder import (
    close_encoder,
    code_alone,
    new_coder,
    new_slots,
    open_decoder,
)
from magnetite.core.codecs.layers.blocks import Blocks
from magnetite.core.codecs.layers.lifting import analyse, band_shapes, synthesise
from magnetite.core.codecs.layers.transform import CosineTransform


@given(
    height=st.integers(1, 20), width=st.integers(1, 20),
    block=st.tuples(st.integers(1, 24), st.integers(1, 24)),
)  # fmt: skip
def test_blocks_pad_and_crop_exactly(height: int, width: int, block: tuple[int, int]) -> None:
    plane = texture(height, width).astype(np.float32)
    layer = Blocks(height, width, block)
    blocks = layer.forward(plane)
    assert blocks.shape[2:] == (min(block[0], height), min(block[1], width))
    np.testing.assert_array_equal(layer.backward(blocks), plane)


@given(
    height=st.integers(1, 40), width=st.integers(1, 40), levels=st.integers(0, 5),
    name=st.sampled_from(["haar", "5/3", "9/7"]),
)  # fmt: skip
def test_wavelets_come_back(height: int, width: int, levels: int, name: str) -> None:
    plane = np.rint(texture(height, width) * 4000).astype(np.int32 if name == "5/3" else float)
    bands = analyse(plane, name, levels)
    assert [[b.shape for b in level] for level in bands] == band_shapes(height, width, levels)
    np.testing.assert_allclose(synthesise(bands, name), plane, atol=1e-8)
    if name == "haar" and not (height | width) % 2**levels:
        energy = sum(float((b**2).sum()) for level in bands for b in level)
        assert energy == pytest.approx(float((plane**2).sum()))


def test_the_transform_keeps_energy() -> None:
    """Parseval: the error of the coefficients is the error of the samples."""
    blocks = texture(64, 64).reshape(8, 8, 8, 8)
    coefficients = CosineTransform().forward(blocks)
    assert (coefficients**2).sum() == pytest.approx((blocks**2).sum())
    one = CosineTransform().forward(np.ones((1, 1, 4, 4)))
    assert one[0, 0, 0, 0] == pytest.approx(4)
    assert np.abs(one).sum() == pytest.approx(4)


@given(bits=st.lists(st.tuples(st.integers(0, 1), st.integers(0, 7)), max_size=400))
def test_the_range_coder_gives_back_every_bit(bits: list[tuple[int, int]]) -> None:
    data, slots = np.zeros(1000, np.uint8), new_slots(8)
    coder = new_coder(False, data.size)
    for bit, context in bits:
        code_alone(coder, data, bit, slots, context)
    length = close_encoder(coder, data)
    coder, slots = new_coder(True, length), new_slots(8)
    open_decoder(coder, data)
    assert [code_alone(coder, data, 0, slots, context) for _, context in bits] == [
        bit for bit, _ in bits
    ]


def test_the_range_coder_is_as_short_as_the_entropy() -> None:
    for p in (0.5, 0.1, 0.01):
        bits = (np.random.default_rng(5).random(200_000) < p).astype(int)
        data, slots = np.zeros(60_000, np.uint8), new_slots(1)
        coder = new_coder(False, data.size)
        for bit in bits.tolist():
            code_alone(coder, data, bit, slots, 0)
        share = bits.mean()
        entropy = -share * math.log2(share) - (1 - share) * math.log2(1 - share)
        assert 8 * close_encoder(coder, data) / bits.size == pytest.approx(entropy, rel=0.02)
