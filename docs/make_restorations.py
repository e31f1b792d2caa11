"""Make docs/restoration.md and its pictures from the declarations: make docs."""

from __future__ import annotations

import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image
from scipy import ndimage

import magnetite
from magnetite.cli.methods import settings_table
from magnetite.core.analysis.residual import residual
from magnetite.core.methods.catalogue import Method, every
from magnetite.core.metrics.error import psnr
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.synthetic.catalogue import SCENES
from magnetite.views.sheet import sheet
from magnetite.views.style import save

NOISE = "gaussian-noise sd=20dn"
IMPULSES = "salt-pepper density=20%"
BLUR = "gaussian-blur sigma=1.5 + gaussian-noise sd=0.5dn"
#: For each method what is restored, and how.
EXAMPLES = {
    "mean": (NOISE, "size=3"),
    "gaussian": (NOISE, "sigma=0.7"),
    "bilateral": (NOISE, "range=45dn"),
    "wiener": (NOISE, "sd=20dn"),
    "guided": (NOISE, "range=35dn"),
    "anisotropic-diffusion": (NOISE, "range=40dn iterations=6"),
    "sharpen": ("gaussian-blur sigma=1.2", "sigma=1.2 amount=1.5"),
    "median": (IMPULSES, "size=3"),
    "adaptive-median": ("salt-pepper density=40%", "largest=9"),
    "sliding-dct": (NOISE, "sd=20dn"),
    "wavelet-shrink": (NOISE, "sd=20dn"),
    "nl-means": (NOISE, "sd=20dn"),
    "bm3d": (NOISE, "sd=20dn"),
    "total-variation": (NOISE, "strength=12dn"),
    "wiener-deblur": (BLUR, "sigma=1.5 sd=0.5dn"),
    "richardson-lucy": (BLUR, "sigma=1.5"),
    "tv-deblur": (BLUR, "sigma=1.5"),
    "deblock": ("jpeg quality=15", "step=60dn"),
    "dering": ("jpeg quality=15", "range=12dn"),
    "dequantize": ("quantize bits=4", "step=17dn"),
    "anscombe": ("sensor-noise full-well=150e read=3e", "full-well=150e read=3e"),
}
#: The wrong tool, or too much of it, compared with the right one.
WRONG = (
    (IMPULSES, ("gaussian sigma=1", "bm3d sd=60dn", "median size=3", "adaptive-median")),
    (NOISE, ("median size=3", "median size=7", "gaussian sigma=2", "bm3d sd=50dn", "bm3d sd=20dn")),
)
#: What methods are compared on, each method at its best setting of those listed.
DEGRADATIONS = (
    NOISE,
    "sensor-noise full-well=300e read=4e",
    "salt-pepper density=10%",
    "speckle contrast=0.15",
    "quantize bits=4",
    "jpeg quality=15",
    "gaussian-blur sigma=1.5 + gaussian-noise sd=0.5dn",
)
CANDIDATES = {
    "mean": ("mean size=3",),
    "gaussian": tuple(f"gaussian sigma={s}" for s in (0.4, 0.6, 0.8, 1.1)),
    "median": ("median size=3", "median size=5"),
    "adaptive-median": ("adaptive-median",),
    "bilateral": tuple(f"bilateral range={r}dn" for r in (10, 20, 40, 70)),
    "wiener": tuple(f"wiener sd={s}dn" for s in (5, 10, 20, 30)),
    "guided": tuple(f"guided range={r}dn" for r in (10, 20, 40)),
    "anisotropic-diffusion": tuple(f"anisotropic-diffusion range={r}dn" for r in (8, 16, 32)),
    "sliding-dct": tuple(f"sliding-dct sd={s}dn" for s in (3, 7, 13, 20)),
    "wavelet-shrink": tuple(f"wavelet-shrink sd={s}dn" for s in (3, 7, 13, 20)),
    "nl-means": tuple(f"nl-means sd={s}dn" for s in (3, 7, 13, 20)),
    "bm3d": tuple(f"bm3d sd={s}dn" for s in (3, 7, 13, 20)),
    "total-variation": tuple(f"total-variation strength={s}dn" for s in (1, 3, 8, 15)),
    "anscombe": ("anscombe full-well=300e read=4e", "anscombe full-well=1000e read=4e"),
    "deblock": ("deblock step=40dn", "deblock step=80dn"),
    "dering": ("dering range=6dn", "dering range=12dn"),
    "dequantize": ("dequantize step=17dn", "dequantize step=17dn sigma=0.6 iterations=1"),
    "sharpen": ("sharpen sigma=1.5 amount=0.5", "sharpen sigma=1.5 amount=1.5"),
    "wiener-deblur": ("wiener-deblur sigma=1.5 sd=0.5dn",),
    "richardson-lucy": ("richardson-lucy sigma=1.5",),
    "tv-deblur": ("tv-deblur sigma=1.5",),
}
CROP = Region(84, 36, 72, 54)
_INTRODUCTION = """\
# Restoration

Made from the declarations and the demo's scenes by `make docs`. Each section gives the formula,
the settings, the source, a picture and the cost of a method: reference, degraded, restored, and
the residual (scaled for sight). A picture of edges there means that structure was lost.

`magnetite restore IN OUT STEPS… --reference REF` scores before and after, and always judges the
residual, in this order. Was detail added (steeper slopes)? Then the noise, the gauge `ringing` and
the overshoots beyond the local range are given before and after. Is noise left? In the quarter of
the blocks that is least textured nothing but noise can have been removed. Was structure lost? The
residual then has more power than the noise, or more in textured blocks than in flat ones. Where
noise and texture cannot be distinguished, nothing is claimed. `edges` correlates, over windows of
5x5, the strength of the residual with the slopes of the restored picture: a method that spares
edges has a negative figure, one that smooths them a positive one. Up to -0.5 the verdict on white
noise adds that much of the noise is left at edges. `structure` is the rms autocorrelation of the
residual within 2 px; from 0.1 on it is not white noise. `magnetite view residual` draws both.

The sd of the noise, where a method takes it and it is left out, is estimated from the least
textured blocks, texture separated by its spectrum (`noise-blocks`); the estimate is printed with
its 95 % interval ([reliability](reliability.md)). `--aim psnr=best` tunes one setting that is
`auto`: against the reference, or without one by an estimate of the error for white Gaussian noise,
Stein's where noise is removed and a weighted predictive risk where a known blur is undone; other
steps have none. The estimated PSNR is given with its interval, which contains the error of the
noise unless `--noise-sd` states that; where noise and texture cannot be distinguished and the sd
is not stated, none is given. Samples stay float between steps and may leave 0..1; samples clipped
at the end are counted. Edges of a picture are mirrored.

Costs are times on 1024x768 noisy gray samples with two threads, as a multiple of SciPy's 5x5
median of the same samples, measured when this page was made.
"""


def main(target: Path) -> None:
    pictures = target / "restoration"
    shutil.rmtree(pictures, ignore_errors=True)
    pictures.mkdir()
    scene = SCENES[1].picture(640, 448, 0).luma()
    reference = Picture(scene.samples[120:344, 170:490].copy(), 8, "gray", "veined-breccia")
    lines = [_INTRODUCTION, *_suits(), *_wrong(reference, pictures)]
    unit = _time(lambda: ndimage.median_filter(_large().astype(np.float64), size=5))
    for method in every("restoration"):
        lines += _section(method, reference, pictures, unit)
    (target / "restoration.md").write_text("\n".join(lines) + "\n")


def _suits() -> list[str]:
    """A table: gain in PSNR of every method on every degradation, mean over the scenes."""
    scenes = [_eight_bits(scene.picture(320, 224, 0).luma().pixels()) for scene in SCENES]
    degraded = {
        text: [magnetite.degrade(picture, text).picture for picture in scenes]
        for text in DEGRADATIONS
    }
    gains = {
        name: [_gain(scenes, degraded[text], steps) for text in DEGRADATIONS]
        for name, steps in CANDIDATES.items()
    }
    best = [max(row[i] for row in gains.values()) for i in range(len(DEGRADATIONS))]
    heads = [f"`{text}`" for text in DEGRADATIONS]
    lines = [
        "## Choice of a method\n",
        "Gain in PSNR, dB, mean over the five scenes at 320x224; each method at the best of a few "
        "settings (`docs/make_restorations.py` has them). The best of a column is bold.\n",
        "| method | " + " | ".join(heads) + " |",
        "|---" * (len(heads) + 1) + "|",
    ]
    for name, row in gains.items():
        cells = [f"**{g:+.1f}**" if g == b else f"{g:+.1f}" for g, b in zip(row, best, strict=True)]
        lines.append(f"| `{name}` | " + " | ".join(cells) + " |")
    return [*lines, ""]


def _gain(scenes: list[Picture], degraded: list[Picture], steps: tuple[str, ...]) -> float:
    return max(
        float(np.mean([_psnr(c, magnetite.restore(d, step).picture) - _psnr(c, d)
                       for c, d in zip(scenes, degraded, strict=True)]))
        for step in steps
    )  # fmt: skip


def _eight_bits(pixels: np.ndarray) -> Picture:
    return Picture(np.rint(pixels * 255).astype(np.uint8), 8, "gray")


def _psnr(one: Picture, two: Picture) -> float:
    return psnr(one.samples, two.samples, 255)


def _wrong(reference: Picture, pictures: Path) -> list[str]:
    lines = ["## The wrong tool, and too much of it\n"]
    for number, (degradation, steps) in enumerate(WRONG, 1):
        worn = magnetite.degrade(reference, degradation).picture
        rows, shown, titles = (
            [],
            [reference, worn],
            ["reference", _title(degradation, reference, worn)],
        )
        for step in steps:
            mended = magnetite.restore(worn, step).picture
            shown.append(mended)
            titles.append(_title(step, reference, mended))
            found = residual(worn, mended)
            figures = f"{_psnr(reference, worn):.2f} | {_psnr(reference, mended):.2f}"
            rows.append(
                f"| `{step}` | {figures} | {found.structure:.3f} | {found.edges:+.2f} | "
                f"{found.verdict} |"
            )
        path = pictures / f"wrong-{number}.png"
        _draw(shown, titles, path, columns=4)
        lines += [
            f"On `{degradation}`:\n",
            "| method | PSNR before, dB | after | structure | edges | verdict on the residual |",
            "|---|---|---|---|---|---|",
            *rows,
            f"\n![Methods on {degradation}](restoration/{path.name})\n",
        ]
    return lines


def _section(method: Method, reference: Picture, pictures: Path, unit: float) -> list[str]:
    degradation, settings = EXAMPLES[method.name]
    if method.name == "dequantize":  # is for smooth pictures
        reference = _smooth()
    step = f"{method.name} {settings}"
    worn = magnetite.degrade(reference, degradation).picture
    mended = magnetite.restore(worn, step).picture
    found = residual(worn, mended)
    path = pictures / f"{method.name}.png"
    titles = ["reference", _title(degradation, reference, worn), _title(step, reference, mended)]
    titles.append(f"residual\nsd {found.sd:.3g} dn, edges {found.edges:+.2f}")
    _draw([reference, worn, mended, _difference(worn, mended)], titles, path)
    large = _eight_bits(_large())
    seconds = _time(lambda: magnetite.restore(large, step))
    lines = [f"\n## `{method.name}`\n", method.summary, "", method.formula, ""]
    lines += settings_table(method)
    if method.one_of:
        keys = ", ".join(f"`{key}=`" for key in method.one_of)
        lines.append(f"Exactly one of {keys} must be given.\n")
    cost = f"{seconds / unit:.2g}"
    lines += [
        f"Colour: {method.colour.value}. Source: {method.source}.\n",
        f"Cost of `{step}`: {cost}. On `{degradation}`: {_psnr(reference, worn):.2f} dB before, "
        f"{_psnr(reference, mended):.2f} dB after; {found.verdict}.\n",
        f"![{method.name}](restoration/{path.name})",
    ]
    return lines


def _title(text: str, reference: Picture, picture: Picture) -> str:
    return f"{text}\nPSNR {_psnr(reference, picture):.2f} dB"


def _difference(worn: Picture, mended: Picture) -> Picture:
    difference = worn.samples.astype(float) - mended.samples
    reach = float(np.quantile(np.abs(difference), 0.995)) or 1.0
    shown = (127.5 + 127.5 * difference / reach).clip(0, 255)
    return Picture(np.rint(shown).astype(np.uint8), 8, "gray")


def _draw(shown: list[Picture], titles: list[str], path: Path, columns: int | None = None) -> None:
    with tempfile.TemporaryDirectory() as folder:
        drawn = Path(folder) / "sheet.png"
        save(sheet(shown, titles, CROP, columns=columns), drawn)
        Image.open(drawn).convert("L").save(path, optimize=True)  # all of it is gray


def _smooth() -> Picture:
    y, x = np.mgrid[:224, :320]
    return _eight_bits(0.5 + 0.35 * np.sin(x / 70 + y / 300) * np.cos(y / 55))


def _large() -> np.ndarray:
    """Noisy samples to be timed on."""
    clean = SCENES[1].picture(1024, 768, 0).luma().pixels()
    return (clean + np.random.default_rng(0).normal(0, 20 / 255, clean.shape)).clip(0, 1)


def _time(work: Callable[[], object]) -> float:
    """The lesser of two times, in s, after one call that is not counted."""
    work()
    times = []
    for _ in range(2):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return min(times)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
