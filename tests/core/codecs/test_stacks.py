"""Transforms across planes, and singular values block by block."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy.fft import dctn, idctn

import magnetite
from conftest import Run, texture
from magnetite.core.errors import PictureError

#: Numbers of planes: an even split, a smaller last group, two axes.
STACKS = [((8,), "8x8x4"), ((7,), "4x5x3"), ((4, 3), "8x8x4x2")]


def transformed(stack: np.ndarray, sides: list[int], step: float) -> np.ndarray:
    """Groups of the given sides by SciPy's transform of all axes, quantized, and back."""
    if not all(side >= n for side, n in zip(sides, stack.shape, strict=True)):
        axis = next(i for i, n in enumerate(stack.shape) if n > sides[i])
        parts = np.split(stack, range(sides[axis], stack.shape[axis], sides[axis]), axis)
        return np.concatenate([transformed(part, sides, step) for part in parts], axis)
    numbers = np.rint(dctn(stack, norm="ortho") / step)
    return np.asarray(idctn(numbers * step, norm="ortho"))


@pytest.mark.parametrize(("shape", "block"), STACKS)
def test_blocks_across_planes_are_the_transform_of_all_axes(
    shape: tuple[int, ...], block: str
) -> None:
    sides = [int(side) for side in block.split("x")]
    planes = int(np.prod(shape))
    pixels = texture(2 * sides[0], 3 * sides[1], planes).astype(np.float32)
    settings = f"step=0.05fs optimise=off smooth=off stack={'x'.join(map(str, shape))}"
    made = magnetite.compress(pixels, f"dct {settings} block={block}")
    assert sum(made.parts.values()) == len(made.data)
    wanted = transformed(pixels.reshape(*pixels.shape[:2], *shape) - 0.5, sides, 0.05) + 0.5
    np.testing.assert_allclose(made.picture.pixels(), wanted.reshape(pixels.shape), atol=2e-5)


def test_what_hardly_changes_from_plane_to_plane_costs_little() -> None:
    rng = np.random.default_rng(0)
    still = np.rint(np.dstack([texture(64, 64) * 255] * 16) + rng.normal(0, 1, (64, 64, 16)))
    alone, across = (
        magnetite.compress(still.clip(0, 255).astype(np.uint8), f"dct step=4dn block={block}")
        for block in ("8", "8x8x16")
    )
    assert across.bpp < alone.bpp / 4
    errors = [np.mean((m.picture.samples - still) ** 2) for m in (alone, across)]
    assert errors[1] < 1.1 * errors[0]


def test_arrays_of_one_and_four_axes_from_the_command_line(tmp_path: Path, run: Run) -> None:
    volume = (texture(24, 16, 12) * 255).astype(np.uint8)
    np.save(tmp_path / "four.npy", volume.reshape(24, 16, 4, 3))
    np.save(tmp_path / "series.npy", volume[0, :, 0])
    step = ["dct", "step=0.5dn", "optimise=off"]
    done = run("compress", "four.npy", "four.mgt", *step, "block=8x8x4x3", "stack=4x3")
    assert "frequency 3.2" in done.stdout
    assert "4x3, read as planes" in done.stderr
    run("expand", "four.mgt", "again.npy")
    assert np.abs(np.load(tmp_path / "again.npy").astype(int) - volume).max() <= 2
    run("compress", "series.npy", "series.mgt", *step, "block=1x16")
    run("expand", "series.mgt", "series-again.npy")
    again = np.load(tmp_path / "series-again.npy")
    assert again.shape == (1, 16)
    assert np.abs(again.astype(int) - volume[0, :, 0]).max() <= 1
    done = run("compress", "four.npy", "no.mgt", *step, "block=8x8x4x3", status=2)
    assert "stack=4x6" in done.stderr
    assert not (tmp_path / "no.mgt").exists()


def test_blocks_and_stacks_that_do_not_fit_are_refused() -> None:
    gray, stack = texture(16, 16), texture(16, 16, 6)
    for pixels, step in (
        (gray, "dct step=1% block=8x8x2"),
        (stack, "dct step=1% block=8x8x2 stack=4"),
        (stack, "dct step=1% block=8x8x2x2"),
    ):
        with pytest.raises(PictureError):
            magnetite.compress(pixels.astype(np.float32), step)


@pytest.mark.parametrize("block", [(8, 8), (6, 10)])
@pytest.mark.parametrize("rank", [1, 3])
def test_each_block_keeps_its_largest_terms(block: tuple[int, int], rank: int) -> None:
    pixels = texture(5 * block[0], 4 * block[1], seed=3).astype(np.float32)
    blocks = pixels.reshape(5, block[0], 4, block[1]).swapaxes(1, 2)
    values = np.linalg.svd(blocks - 0.5, compute_uv=False)
    tail = np.sum(values[..., rank:] ** 2) / pixels.size  # Eckart and Young
    step = f"svd rank={rank} block={block[0]}x{block[1]} step=0.004fs"
    made = magnetite.compress(pixels, step)
    error = np.mean((made.picture.pixels() - pixels) ** 2)
    assert tail < error < tail + 1.5 * 0.004**2 / 12


def test_blocks_take_as_many_terms_as_their_error_needs() -> None:
    pixels = texture(64, 64)
    pixels[:, :32] = 0.3  # needs one
    made = magnetite.compress(pixels.astype(np.float32), "svd error=0.01fs block=16 step=0.002fs")
    error = (made.picture.pixels() - pixels).reshape(4, 16, 4, 16)
    each = np.sqrt(np.mean(error**2, axis=(1, 3)))
    assert each.max() < 0.0101
    assert each[:, 2:].min() > 0.004
