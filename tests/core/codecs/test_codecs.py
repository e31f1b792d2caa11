"""Codecs and the container: exact where they must be, refused where they are damaged."""

from __future__ import annotations

import contextlib
import re
import time
import zlib
from itertools import chain

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.fft import dctn

import magnetite
import slow_wavelet
from conftest import sample_pictures, texture
from magnetite.core.codecs.dct import dct
from magnetite.core.codecs.layers.backend import BACK_ENDS
from magnetite.core.codecs.layers.container import MAGIC, unpack
from magnetite.core.codecs.layers.lifting import band_norms
from magnetite.core.errors import ChainError, PictureError, StreamError
from magnetite.core.operations.coding import Compressed
from magnetite.core.operations.rate import compress_to_aim, compress_to_rate
from magnetite.core.picture import Picture
from magnetite.core.picture.frame import Frame
from magnetite.synthetic.catalogue import SCENES

BLOCKS = ["8", "16", "2x8", "1", "7x13", "200"]
ACROSS = "dct step=4% block=8x8x3"
#: A step of every codec that is ours, coarse enough to lose something.
OURS = {
    "dct": "dct step=4% block=7", "wavelet": "wavelet step=4%", "predictive": "predictive bound=3",
    "pcm": "pcm bits=3", "bit-planes": "bit-planes keep=3", "svd": "svd rank=5",
    "pca": "pca components=3", "fourier": "fourier keep=20%",
}  # fmt: skip
LOSSLESS = (
    "predictive", "wavelet step=0.001% filter=5/3", "pcm bits=16", "bit-planes keep=16",
    "bit-planes keep=16 code=binary",
)  # fmt: skip


def coded(source: object, step: str) -> Compressed:
    """Compressed; its parts and its rate are those of its bytes."""
    made = magnetite.compress(source, step)
    assert sum(made.parts.values()) == len(made.data)
    assert made.bpp == 8 * len(made.data) / made.pixels
    return made


@pytest.mark.parametrize("block", BLOCKS)
def test_any_block_size_round_trips(picture: Picture, block: str) -> None:
    made = coded(picture, f"dct step=1% block={block}")
    again = magnetite.expand(made.data)
    assert (again.colour, again.bits, again.samples.shape) == (
        picture.colour, picture.bits, picture.samples.shape,
    )  # fmt: skip
    error = np.abs(again.pixels() - picture.pixels().astype(np.float32)).max()
    assert error < 0.05
    sample_bits = picture.bits or 8 * picture.samples.itemsize
    assert made.ratio == pytest.approx(picture.samples.size * sample_bits / 8 / len(made.data))


@pytest.mark.parametrize("step", OURS.values())
def test_every_codec_keeps_size_colour_and_depth(picture: Picture, step: str) -> None:
    try:
        made = coded(picture, step.replace("8dn", "3%"))
    except PictureError as error:
        assert re.search("codes gray and RGB of up to|codes digital numbers", str(error))
        return
    again = made.picture
    assert (again.colour, again.bits, again.samples.shape) == (
        picture.colour, picture.bits, picture.samples.shape,
    )  # fmt: skip
    assert np.isfinite(again.samples).all()


@given(
    shape=st.tuples(st.integers(1, 40), st.integers(1, 40)),
    bits=st.sampled_from([1, 5, 8, 12, 16]),
    channels=st.sampled_from([None, 3, 2]), seed=st.integers(0, 999), smooth=st.booleans(),
)  # fmt: skip
@settings(max_examples=40)
def test_lossless_is_bit_for_bit(
    shape: tuple[int, int], bits: int, channels: int | None, seed: int, smooth: bool
) -> None:
    full = (*shape, channels) if channels else shape
    rng = np.random.default_rng(seed)
    values = texture(*full) if smooth else rng.random(full)
    samples = np.rint(values * (2**bits - 1)).astype(np.uint8 if bits <= 8 else np.uint16)
    colour = "gray" if channels is None else "rgb" if channels == 3 else "planes"
    picture = Picture(samples, bits, colour)
    for step in LOSSLESS:
        assert coded(picture, step).picture.same_samples(picture), step
    bound = int(rng.integers(1, 9))
    near = coded(picture, f"predictive bound={bound}").picture
    assert np.abs(near.samples.astype(int) - samples).max() <= bound


def test_large_pictures_are_coded_in_two_halves() -> None:
    samples = np.rint(texture(1100, 1003) * 255).astype(np.uint8)
    for step in LOSSLESS[:2]:
        np.testing.assert_array_equal(coded(samples, step).picture.samples, samples)
    exact = coded(samples, "wavelet step=2dn")
    half = magnetite.expand(exact.data[: len(exact.data) // 2])
    assert "was cut" in half.notes[0]
    whole, cut = (magnetite.score(samples, p, "psnr")["psnr"] for p in (exact.picture, half))
    assert 25 < cut < whole - 1
    planes = coded(samples, "bit-planes keep=8")
    np.testing.assert_array_equal(planes.picture.samples, samples)


def test_an_embedded_stream_gets_better_byte_by_byte() -> None:
    scene = SCENES[1].picture(160, 120, 0)
    data = coded(scene, "wavelet step=1%").data
    scores = []
    for share in (0.03, 0.1, 0.2, 0.4, 0.6, 0.8, 1.0):
        picture = magnetite.expand(data[: int(share * len(data))])
        scores.append(magnetite.score(scene, picture, "psnr")["psnr"])
    assert scores == sorted(scores)
    assert scores[-1] > scores[0] + 20


@pytest.mark.parametrize("name", ["9/7", "5/3", "haar"])
def test_wavelet_curves_rise_and_no_cut_is_better(name: str) -> None:
    """Bands are weighted by their norms: finer steps give less error, and cutting a finer file
    at the rate of a coarser one never less.
    """
    for wanted, made in zip(
        chain(*slow_wavelet.norms(name, 9)), chain(*band_norms(name, 9)), strict=True
    ):
        assert made == pytest.approx(wanted, rel=1e-4)
    for number in (1, 4):
        scene = magnetite.convert(SCENES[number].picture(256, 192, 4).luma(), "depth bits=8")
        files = [magnetite.compress(scene, f"wavelet filter={name} step={step}dn")
                 for step in (1, 2, 4, 8, 16, 32)]  # fmt: skip
        errors = [magnetite.score(scene, one.picture, "mse")["mse"] for one in files]
        rates = [len(one.data) for one in files]
        assert errors == sorted(errors)
        assert rates == sorted(rates, reverse=True)
        for rate, error in list(zip(rates, errors, strict=True))[1:]:
            cut = magnetite.expand(files[0].data[:rate])
            assert magnetite.score(scene, cut, "mse")["mse"] >= 0.98 * error


@pytest.mark.parametrize("step", ["wavelet", "dct block=16", "predictive", "svd", "pca", "fourier",
                                  "jpeg", "jpeg2000"])  # fmt: skip
def test_rates_are_met_from_below(step: str) -> None:
    scene = SCENES[1].picture(160, 120, 0).luma()
    made = compress_to_rate(scene, step, 2.0)
    assert sum(made.parts.values()) == len(made.data)
    size = 2.0 * 160 * 120 / 8
    assert len(made.data) <= size
    assert len(made.data) > (size - 2 if made.embedded else 0.55 * size), "as large as it may be"
    assert magnetite.expand(made.data).samples.shape == scene.samples.shape
    assert not magnetite.expand(made.data).notes
    with pytest.raises(ChainError, match="is the setting that is solved for"):
        compress_to_rate(scene, made.step, 2.0)


def test_a_score_is_aimed_at() -> None:
    scene = SCENES[0].picture(160, 120, 0)
    for codec in ("dct", "wavelet"):
        made = compress_to_aim(scene, codec, "psnr=33")
        assert magnetite.score(scene, made.picture, "psnr")["psnr"] == pytest.approx(33, abs=0.05)
        assert made.aim.metric == "psnr"


def test_the_rank_decides_the_error() -> None:
    """Eckart and Young: what is left out is the tail of the singular values."""
    samples = np.rint(texture(60, 48) * 255).astype(np.uint8)
    values = np.linalg.svd(samples / 255 - 0.5, compute_uv=False)
    for rank in (1, 5, 20):
        made = coded(samples, f"svd rank={rank} step=0.002%")
        error = np.sqrt((values[rank:] ** 2).sum() / samples.size) * 255
        found = magnetite.score(samples, made.picture, "rmse")["rmse"]
        # Rounding to whole dn adds 1 / 12 to the mean squared error.
        assert found**2 - 1 / 12 == pytest.approx(error**2, rel=0.05, abs=0.02)
        assert f"rank {rank};" in made.remarks[0]
    share = np.cumsum(values**2) / (values**2).sum()
    rank = int((share < 0.99).sum()) + 1
    assert f"rank {rank};" in coded(samples, "svd energy=99%").remarks[0]
    assert "than the picture: this rank does" in coded(samples, "svd rank=40").remarks[0]


def test_components_keep_the_variance_that_they_say() -> None:
    samples = np.rint(texture(64, 80) * 255).astype(np.uint8)
    patches = samples.reshape(8, 8, 10, 8).swapaxes(1, 2).reshape(80, 64) / 255
    spread = np.linalg.eigvalsh(np.cov(patches, rowvar=False, bias=True))[::-1]
    for share in (0.5, 0.9, 0.97):
        count = int((np.cumsum(spread) / spread.sum() < share).sum()) + 1
        one, two = (
            coded(samples, f"pca {setting} step=0.01%").picture
            for setting in (f"variance={share}", f"components={count}")
        )
        assert one.same_samples(two)
        lost = magnetite.score(samples, one, "mse")["mse"] / 255**2 - 1 / 12 / 255**2
        assert lost == pytest.approx(spread[count:].sum() / 64, rel=0.05, abs=1e-6)


def test_shares_of_coefficients_are_the_largest() -> None:
    samples = np.rint(texture(64, 64) * 255).astype(np.uint8)
    blocks = dctn(samples.reshape(8, 8, 8, 8).swapaxes(1, 2) / 255 - 0.5, axes=(2, 3), norm="ortho")
    sizes = np.sort((blocks**2).ravel())[::-1]
    for share in (0.1, 0.05, 0.01):
        step = f"dct step=0.01% block=8 keep={share} optimise=off smooth=off"
        lost = magnetite.score(samples, coded(samples, step).picture, "mse")["mse"] / 255**2
        # Parseval: the error of the samples is that of the coefficients.
        tail = sizes[round(share * sizes.size) :].sum() / sizes.size
        assert lost == pytest.approx(tail + 1 / 12 / 255**2, rel=0.03)
    zonal = coded(samples, "dct step=0.01% block=8 zone=0 optimise=off smooth=off").picture
    means = samples.reshape(8, 8, 8, 8).mean(axis=(1, 3)).repeat(8, axis=0).repeat(8, axis=1)
    assert np.abs(zonal.samples - means).max() <= 1


def test_the_error_follows_the_step() -> None:
    pixels = np.random.default_rng(0).random((128, 128)).astype(np.float32)
    frame = Frame(128, 128, 1, "gray")
    for step in (0.01, 0.02, 0.04):
        pipeline = dct(frame, step=step, optimise="off", smooth="off")
        decoded = pipeline.backward([s.data for s in pipeline.forward(pixels)])
        assert ((decoded - pixels) ** 2).mean() == pytest.approx(step**2 / 12, rel=0.03)


def test_finer_steps_cost_more_and_score_better() -> None:
    points = magnetite.curve(sample_pictures()["rgb 8"], "dct step=2%,4%,8%,16%").points(0, 0)
    assert [str(p.step) for p in points] == [f"dct step={s}%" for s in (16, 8, 4, 2)]
    for metric in ("psnr", "ssim"):
        scores = [p.scores[metric] for p in points]
        assert scores == sorted(scores)


@pytest.mark.parametrize("name", sorted(BACK_ENDS))
@given(
    shape=st.tuples(*(st.integers(1, n) for n in (4, 4, 5, 5))), spread=st.integers(0, 24),
    seed=st.integers(0, 99),
)  # fmt: skip
def test_back_ends_are_lossless(
    name: str, shape: tuple[int, int, int, int], spread: int, seed: int
) -> None:
    rng = np.random.default_rng(seed)
    array = np.rint(rng.standard_cauchy(shape) * 2.0**spread / 100).clip(-(2**24), 2**24)
    array = array.astype(np.int32)
    data = BACK_ENDS[name].pack(array)
    np.testing.assert_array_equal(BACK_ENDS[name].unpack(data, shape), array)
    for damaged in (data + b"0", data[:-1]):
        with contextlib.suppress(StreamError):
            assert not np.array_equal(BACK_ENDS[name].unpack(damaged, shape), array)


def test_back_ends_decode_to_the_same_picture(picture: Picture) -> None:
    packed, deflated, raw = (
        magnetite.compress(picture, f"dct step=3% backend={name}") for name in BACK_ENDS
    )
    assert packed.picture.same_samples(raw.picture)
    assert deflated.picture.same_samples(raw.picture)
    assert len(packed.data) < len(deflated.data) < len(raw.data)


def test_the_header_is_as_documented() -> None:
    samples = np.full((3, 300), 128, np.uint8)
    data = magnetite.compress(samples, "dct step=8dn").data
    expected = MAGIC + bytes([5, 8, 0, 3, 0xAC, 0x02, 1, 12]) + b"dct step=8dn" + bytes([1])
    assert data.startswith(expected)
    stream = unpack(data)
    payload = stream.sections[0]
    header = expected + bytes([len(payload)]) + zlib.crc32(payload).to_bytes(4, "little")
    assert data == header + zlib.crc32(header).to_bytes(4, "little") + payload


def _checked(data: bytes) -> bytes:
    """The stream with both checksums put right, as far as its header can be read."""
    try:
        position = 7
        numbers = []
        while len(numbers) < 4 or len(numbers) < 5 + numbers[4]:
            number = shift = 0
            while True:
                byte = data[position]
                position += 1
                number |= (byte & 0x7F) << shift
                shift += 7
                if byte < 0x80:
                    break
            numbers.append(number)
            position += number if len(numbers) == 4 else 0
            if len(numbers) == 4:
                continue
        payload = zlib.crc32(data[position + 8 :]).to_bytes(4, "little")
        header = data[:position] + payload
        return header + zlib.crc32(header).to_bytes(4, "little") + data[position + 8 :]
    except IndexError:
        return data


def _damage(data: bytes, rng: np.random.Generator) -> bytes:
    """Flip, cut, append or overwrite; mostly with the checksums put right again."""
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
    return _checked(bytes(changed)) if rng.random() < 0.7 else bytes(changed)


def _mutate(count: int) -> None:
    rng = np.random.default_rng(11)
    samples = sample_pictures()
    streams = [
        magnetite.compress(samples[name], step).data
        for step in OURS.values()
        for name in ("gray 8", "rgb 16")
    ]
    streams += [magnetite.compress(samples["gray float"], OURS["dct"]).data]
    streams += [magnetite.compress(samples["gray 8"], "svd rank=2 block=8").data]
    streams += [magnetite.compress(texture(20, 24, 6).astype(np.float32), ACROSS).data]
    refused = 0
    for i in range(count):
        data = _damage(streams[i % len(streams)], rng)
        start = time.perf_counter()
        try:
            magnetite.expand(data, max_samples=2**20)
        except StreamError as error:
            refused += 1
            assert "\n" not in str(error)
        assert time.perf_counter() - start < 2
    assert refused > count / 4


def test_damaged_streams_are_refused_cleanly() -> None:
    _mutate(1500)


@pytest.mark.long
def test_many_damaged_streams_are_refused_cleanly() -> None:
    _mutate(100_000)


@pytest.mark.parametrize("step", OURS.values())
def test_truncation_anywhere_is_refused_or_embedded(step: str) -> None:
    made = magnetite.compress(sample_pictures()["gray 8"], step)
    header = made.parts["header"]
    for end in range(0, len(made.data), 1 if len(made.data) < 300 else 7):
        if made.embedded and end >= header:
            assert magnetite.expand(made.data[:end]).notes
            continue
        with pytest.raises(StreamError):
            magnetite.expand(made.data[:end])
    for position in range(0, len(made.data), 3):
        flipped = bytearray(made.data)
        flipped[position] ^= 1 << (position % 8)
        with pytest.raises(StreamError):
            magnetite.expand(bytes(flipped))


def test_huge_declarations_are_refused_before_allocation() -> None:
    body = MAGIC + bytes([5, 8, 0]) + b"\xff\xff\xff\x7f\xff\xff\xff\x7f\x01"
    body += bytes([12]) + b"dct step=8dn" + bytes([1, 0]) + bytes(4)
    with pytest.raises(StreamError, match="samples; at most"):
        magnetite.expand(body + zlib.crc32(body).to_bytes(4, "little"))


@settings(max_examples=30)
@given(shape=st.sampled_from([(1, 1), (1, 17), (23, 1), (3, 5)]), bits=st.sampled_from([1, 8, 16]))
def test_tiny_pictures_round_trip(shape: tuple[int, int], bits: int) -> None:
    dtype = np.uint8 if bits <= 8 else np.uint16
    samples = (texture(*shape) * (2**bits - 1)).astype(dtype)
    made = magnetite.compress(Picture(samples, bits, "gray"), "dct step=0.001%")
    np.testing.assert_array_equal(made.picture.samples, samples)
