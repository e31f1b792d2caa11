"""Loops are compiled ahead, and it is said when one is compiled later."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import numba
import numpy as np
import pytest

import magnetite
from conftest import PROGRAM, texture
from magnetite.core.compute.compiling import tell_of_compiling
from magnetite.core.picture import as_picture


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
    clean = as_picture((65535 * texture(400, 420, 3)).round().astype(np.uint16))
    magnetite.write(clean, tmp_path / "c.png")
    for words in (
        "degrade c.png n.png gaussian-noise sd=4%", "compress n.png a.mgt wavelet --rate 1bpp",
        "compress n.png b.mgt dct --aim ssim=0.9", "restore n.png r.png bm3d",
        "restore n.png m.png median size=5", "score c.png n.png r.png --metrics all",
        "gauge n.png --metrics all", "degrade c.png k.tif quantize bits=3 dither=error-diffusion",
    ):  # fmt: skip
        assert run(*words.split()) == kept, words
