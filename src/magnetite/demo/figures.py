"""The demo's figures."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from magnetite import compress, degrade, restore, score
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.demo.plan import CLEAN, DENOISERS, NOISES, PLAIN, READABLE
from magnetite.demo.results import SceneResult
from magnetite.views.curves import Line, Panel, rate_distortion, small_multiples
from magnetite.views.sheet import sheet
from magnetite.views.style import save

STRONG = "strong noise"


def draw_curves(results: Sequence[SceneResult], path: Path) -> None:
    """PSNR and SSIM over rate, a line for each scene, clean pictures coded."""
    panels = []
    for metric, title, level in (
        ("psnr", "PSNR (dB)", None),
        ("ssim", "SSIM", (READABLE, f"readable: {READABLE:g}")),
    ):
        lines = [
            Line(result.name, result.curves[CLEAN, PLAIN, metric], colour=i)
            for i, result in enumerate(results)
        ]
        panels.append(Panel(title, lines, level))
    title = "The rate a scene needs follows from its texture (block cosine transform)"
    save(rate_distortion(panels, title), path)


def draw_denoising(results: Sequence[SceneResult], noise: str, path: Path) -> None:
    """PSNR against the clean picture over rate, for every denoiser before coding."""
    panels = [
        Panel(
            "{}\n{} {:+.2f} dB".format(result.name, *result.best(noise)),
            [
                Line(name, result.curves[noise, name, "psnr"], colour=number)
                for number, name in enumerate((PLAIN, *DENOISERS))
            ],
        )
        for result in results
    ]
    title = f"Does denoising before coding pay? PSNR (dB), {noise}: {NOISES[noise]}"
    save(small_multiples(panels, title), path)


def draw_sheet(result: SceneResult, reference: Picture, seed: int, path: Path) -> None:
    """The reference, the noisy picture, and it coded as it is and after the best denoiser."""
    noisy = degrade(reference, NOISES[STRONG], seed=seed).picture
    best, _ = result.best(STRONG)
    pictures, titles = [reference, noisy], [
        f"{result.name}, reference\n{reference.describe()}",
        f"{NOISES[STRONG]}\n{_scores(reference, noisy)}",
    ]  # fmt: skip
    for name in (PLAIN, best) if best != PLAIN else (PLAIN,):
        source = noisy if name == PLAIN else restore(noisy, DENOISERS[name]).picture
        if name != PLAIN:
            pictures.append(source)
            titles.append(f"{DENOISERS[name]}\n{_scores(reference, source)}")
        coded = compress(source, "dct step=16%")
        pictures.append(coded.picture)
        titles.append(
            f"{name}, coded: {coded.bpp:.2f} bpp\n{_scores(reference, coded.picture)}"
        )  # fmt: skip
    save(sheet(pictures, titles, _middle_crop(reference), columns=3), path)


def draw_overview(
    results: Sequence[SceneResult], references: Sequence[Picture], path: Path
) -> None:
    """All references on one sheet."""
    titles = [
        f"{result.name}\n{reference.describe()}, activity {result.activity or 0:.1f} dn"
        for result, reference in zip(results, references, strict=True)
    ]
    save(sheet(list(references), titles), path)


def _scores(reference: Picture, test: Picture) -> str:
    found = score(reference, test, "psnr,ssim")
    return f"PSNR {found['psnr']:.2f} dB, SSIM {found['ssim']:.3f}"


def _middle_crop(picture: Picture) -> Region:
    """A region a seventh as wide as the picture, left of its middle, half as high as wide."""
    width = max(8, picture.width // 7)
    height = max(4, min(width // 2, picture.height))
    width = min(width, picture.width)
    left, top = (picture.width - width) * 2 // 5, (picture.height - height) // 2
    return Region(left, top, width, height)
