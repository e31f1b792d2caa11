"""Rates of codecs against baseline JPEG: make bench-codecs PHOTOS="a.png b.npy"."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

import magnetite
from magnetite.core.picture import Picture
from magnetite.synthetic.catalogue import SCENES

ANCHOR = "jpeg quality=5,8,12,18,25,35,50,65,78,88,93"
CODECS = (
    "dct",
    "dct optimise=off smooth=off",
    "dct backend=zlib",
    "wavelet",
    "jpeg2000",
    "webp",
    "avif",
)
LOSSLESS = ("predictive", "wavelet step=0.001% filter=5/3", "png", "jpeg-ls", "jpeg-xl distance=0")
#: Rates of the curves that are compared, bpp.
LOWEST, HIGHEST = 0.08, 2.3


def points(picture: Picture, codec: str) -> list[tuple[float, float]]:
    """Rate and PSNR within the range of rates."""
    found = [
        (p.bpp, p.scores["psnr"]) for p in magnetite.curve(picture, codec, "psnr").points(0, 0)
    ]
    return [(bpp, quality) for bpp, quality in found if LOWEST <= bpp <= HIGHEST]


def pictures(names: list[str]) -> dict[str, Picture]:
    """The luma of the files named, or of the demo's scenes at 8 bits."""
    if names:
        return {Path(name).stem: magnetite.read(name).luma() for name in names}
    made = {scene.name: scene.picture(640, 448, 0).luma() for scene in SCENES}
    return {
        name: magnetite.Picture((picture.pixels() * 255).round().astype(np.uint8), 8, "gray")
        for name, picture in made.items()
    }


def rates(chosen: dict[str, Picture]) -> None:
    """BD-rate of PSNR against JPEG with optimised tables."""
    anchors = {name: points(picture, ANCHOR) for name, picture in chosen.items()}
    print(f"{'BD-rate % against JPEG':34}", *(f"{name[:10]:>10}" for name in chosen), "      mean")
    for codec in CODECS:
        shares = [
            100 * magnetite.bd_rate(anchors[name], points(picture, codec))
            for name, picture in chosen.items()
        ]
        print(f"{codec:34}", *(f"{s:10.1f}" for s in shares), f"{np.mean(shares):10.1f}")


def lossless(chosen: dict[str, Picture]) -> None:
    """Bits per pixel without loss."""
    print(f"\n{'lossless, bpp':34}", *(f"{name[:10]:>10}" for name in chosen), "      mean")
    for codec in LOSSLESS:
        sizes = [magnetite.compress(picture, codec).bpp for picture in chosen.values()]
        print(f"{codec:34}", *(f"{s:10.3f}" for s in sizes), f"{np.mean(sizes):10.3f}")


if __name__ == "__main__":
    chosen = pictures(sys.argv[1:])
    rates(chosen)
    lossless(chosen)
