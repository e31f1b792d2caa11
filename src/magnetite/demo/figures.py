"""The story's figures."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.demo.scene import CLEAN, DENOISED, DENOISER, NOISE, NOISY, READABLE, SceneResult
from magnetite.views.curves import Line, Panel, rate_distortion, small_multiples
from magnetite.views.sheet import sheet
from magnetite.views.style import save


def draw_curves(results: Sequence[SceneResult], path: Path) -> None:
    """PSNR and SSIM over rate, a line for each scene, clean pictures coded."""
    panels = []
    for metric, title, level in (
        ("psnr", "PSNR (dB)", None),
        ("ssim", "SSIM", (READABLE, f"readable: {READABLE:g}")),
    ):
        lines = [
            Line(result.name, result.curve_of(CLEAN, metric), colour=i)
            for i, result in enumerate(results)
        ]
        panels.append(Panel(title, lines, level))
    title = "The rate a scene needs follows from its texture (block cosine transform, 8x8)"
    save(rate_distortion(panels, title), path)


def draw_denoising(results: Sequence[SceneResult], path: Path) -> None:
    """PSNR against the clean picture over rate; noisy pictures coded as they are, and denoised."""
    panels = [
        Panel(
            f"{result.name}: {result.denoising_gain:+.2f} dB",
            [
                Line(f"coded as it is ({NOISE})", result.curve_of(NOISY, "psnr"), colour=1),
                Line(f"denoised first ({DENOISER})", result.curve_of(DENOISED, "psnr"), colour=0),
            ],
        )
        for result in results
    ]
    title = "Does denoising before coding pay? PSNR (dB) against the clean picture"
    save(small_multiples(panels, title), path)


def draw_sheet(result: SceneResult, path: Path) -> None:
    """Reference and all versions, with the same crop of each."""
    reference = result.reference
    titles = [f"{result.name}, reference\n{reference.describe()}"]
    for version in result.versions:
        rate = f", {version.compressed.bpp:.2f} bpp" if version.compressed else ""
        scores = version.scores
        titles.append(
            f"{version.stage}{rate}\nPSNR {scores['psnr']:.2f} dB, SSIM {scores['ssim']:.3f}"
        )
    pictures = [reference, *(version.picture for version in result.versions)]
    save(sheet(pictures, titles, _middle_crop(reference), columns=3), path)


def draw_overview(results: Sequence[SceneResult], path: Path) -> None:
    """All references on one sheet."""
    titles = [
        f"{result.name}\n{result.reference.describe()}, activity {result.activity:.0f}"
        for result in results
    ]
    save(sheet([result.reference for result in results], titles), path)


def _middle_crop(picture: Picture) -> Region:
    """A region a seventh as wide as the picture, left of its middle, half as high as wide."""
    width = max(8, picture.width // 7)
    height = max(4, min(width // 2, picture.height))
    width = min(width, picture.width)
    left, top = (picture.width - width) * 2 // 5, (picture.height - height) // 2
    return Region(left, top, width, height)
