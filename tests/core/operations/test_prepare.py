"""Loops are compiled ahead, and it is said when one is compiled later."""

from __future__ import annotations

import itertools
import os
import subprocess
from collections.abc import Callable
from pathlib import Path

import numba
import numpy as np
import pytest

import magnetite
from conftest import PROGRAM, texture
from magnetite.core.arrays import Samples
from magnetite.core.compute.compiling import tell_of_compiling
from magnetite.core.picture import Picture, as_picture


def test_a_listener_hears_of_loops_that_are_compiled() -> None:
    import magnetite.core.compute.jit  # noqa: F401 it passes on what is compiled

    heard: list[str] = []

    def doubled(x: float) -> float:
        return 2 * x

    tell_of_compiling(heard.append)
    try:
        assert numba.njit(doubled)(4.0) == pytest.approx(8)
    finally:
        tell_of_compiling(None)
    assert heard == ["doubled"]


@pytest.mark.long
def test_after_preparing_nothing_is_compiled(tmp_path: Path) -> None:
    """Commands on pictures of all sorts add nothing to the cache."""
    environment = os.environ | {"NUMBA_CACHE_DIR": str(tmp_path / "cache")}

    def run(*words: str) -> set[Path]:
        subprocess.run(
            [PROGRAM, *words], cwd=tmp_path, env=environment, check=True, capture_output=True
        )
        return set((tmp_path / "cache").rglob("*.nbc"))

    kept = run("prepare")
    assert kept
    for (height, width), kind in itertools.product(((200, 260), (700, 900)), KINDS):
        picture, ending = KINDS[kind](texture(height, width, 3))
        magnetite.write(picture, tmp_path / f"c.{ending}")
        for words in COMMANDS:
            named = words.replace("c.x", f"c.{ending}").replace("n.x", f"n.{ending}").split()
            assert run(*named) == kept, (words, kind, width)


def _gray(planes: Samples) -> Samples:
    return planes[..., 0]


#: Pictures as they are written, and the ending of their file.
KINDS: dict[str, Callable[[Samples], tuple[Picture, str]]] = {
    "gray": lambda p: (as_picture((255 * _gray(p)).round().astype(np.uint8)), "png"),
    "colour": lambda p: (as_picture((255 * p).round().astype(np.uint8)), "png"),
    "16 bits": lambda p: (as_picture((65535 * p).round().astype(np.uint16)), "tif"),
    "float": lambda p: (as_picture(_gray(p).astype(np.float32)), "npy"),
}
COMMANDS = (
    "degrade c.x n.x gaussian-noise sd=4%", "compress n.x b.mgt dct --aim ssim=0.9",
    "compress n.x a.mgt wavelet --rate 1bpp", "expand a.mgt d.tif", "restore n.x r.tif bm3d",
    "restore n.x m.tif median size=5", "score c.x n.x --metrics all",
    "gauge n.x --metrics all", "score c.x n.x", "gauge n.x",
    "restore n.x m.tif median size=5",
)  # fmt: skip
