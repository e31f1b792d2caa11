"""Codecs of open standards: deep samples, effort, and the library that tables state."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

import magnetite
from magnetite.core.chain.notation import parse_step
from magnetite.core.codecs.yardsticks import library_of, stated


def test_yardsticks_code_deep_samples_and_try_as_hard_as_asked() -> None:
    rng = np.random.default_rng(2)
    smooth = ndimage.gaussian_filter(rng.normal(0, 1, (64, 96, 3)), (3, 3, 0))
    for bits in (10, 12, 16):
        samples = np.rint((0.5 + smooth * 2).clip(0, 1) * (2**bits - 1)).astype(np.uint16)
        picture = magnetite.Picture(samples, bits, "rgb")
        exact = magnetite.compress(picture, "jpeg-xl distance=0 effort=3")
        assert exact.picture.same_samples(picture)
        if bits <= 12:
            near = magnetite.compress(picture, "avif quality=90 effort=2").picture
            assert magnetite.score(picture, near, "psnr")["psnr"] > 38
    eight = magnetite.Picture((samples >> 8).astype(np.uint8), 8, "rgb")
    sizes = [len(magnetite.compress(eight, f"webp quality=50 effort={e}").data) for e in (0, 6)]
    assert sizes[1] < sizes[0]


def test_tables_state_library_version_and_effort() -> None:
    import imagecodecs

    for text, words in (
        ("avif quality=50", "avif by libavif {}, effort 6"),
        ("jpeg-xl distance=1 effort=4", "jpeg-xl by libjxl {}, effort 4"),
        ("jpeg quality=50", "jpeg by libjpeg_turbo {}"), ("dct step=4%", ""),
    ):  # fmt: skip
        step = parse_step(text, "codec")
        library = library_of(step)
        found = library and stated(step, library)
        version = found.split(",")[0].split()[-1] if found else ""
        assert found == words.format(version)
        assert not version or f"-{version}" in imagecodecs.version()
