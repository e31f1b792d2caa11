"""Make docs/codecs.md and its pictures from the declarations: make docs."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image
from scipy.fft import dctn

from magnetite.cli.methods import settings_table
from magnetite.core.methods.catalogue import Method, every
from magnetite.core.metrics.error import psnr
from magnetite.core.operations.coding import Compressed
from magnetite.core.operations.compress import compress
from magnetite.core.operations.rate import cut
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.synthetic.catalogue import SCENES
from magnetite.views.sheet import sheet
from magnetite.views.style import save

_INTRODUCTION = """\
# Codecs

Made from the declarations and the demo's scenes by `make docs`. A codec is a row of layers that
run forwards to bytes and backwards from them: colour, blocks or bands, transform, quantizer, and
a model with an adaptive binary range coder ([the format](mgt-format.md), byte by byte). Rates are
those of the whole `.mgt` file, in bits per pixel. The picture below is the luma of 320x224 px of a
scene, 8 bits.

Where a section gives an error that the mathematics predicts, it is computed from the picture
alone, without the codec, and includes the rounding of the decoded picture to whole digital
numbers, whose mean square is 1/12 dn² (where the error is well below 1 dn, rounding mends it
instead). What falls outside 0 to 255 is clipped on decoding, which
takes a little off the large errors.
"""

#: Shown enlarged below each picture.
CROP = Region(84, 36, 72, 54)


@dataclass(frozen=True)
class Lesson:
    """Settings side by side, with their expected error, in dn."""

    title: str
    words: str
    steps: tuple[str, ...]
    predicted: Callable[[np.ndarray, str], float] | None = None
    why: str = ""


def _value(step: str, key: str) -> float:
    text = next(word for word in step.split() if word.startswith(f"{key}=")).partition("=")[2]
    return float(text.rstrip("%dn"))


def _blocks(dn: np.ndarray, step: str) -> tuple[np.ndarray, float]:
    """Orthonormal coefficients of 8x8 blocks of a picture that they divide, and the step in dn."""
    rows, columns = dn.shape
    blocks = (dn - 127.5).reshape(rows // 8, 8, columns // 8, 8).swapaxes(1, 2)
    return dctn(blocks, axes=(2, 3), norm="ortho"), _value(step, "step")


def _rounded(error: np.ndarray | float) -> float:
    return float(np.sqrt(np.mean(np.square(error)) + 1 / 12))


def _by_step(dn: np.ndarray, step: str) -> float:
    coefficients, size = _blocks(dn, step)
    return _rounded(coefficients - np.rint(coefficients / size) * size)


def _by_threshold(dn: np.ndarray, step: str) -> float:
    coefficients, size = _blocks(dn, step)
    kept = np.abs(coefficients) >= _value(step, "threshold")
    return _rounded(coefficients - np.where(kept, np.rint(coefficients / size) * size, 0))


def _by_share(dn: np.ndarray, step: str) -> float:
    coefficients, size = _blocks(dn, step)
    count = round(_value(step, "keep") / 100 * coefficients.size)
    least = np.sort(np.abs(coefficients), axis=None)[-count]
    kept = np.abs(coefficients) >= least
    return _rounded(coefficients - np.where(kept, np.rint(coefficients / size) * size, 0))


def _by_rank(dn: np.ndarray, step: str) -> float:
    values = np.linalg.svd(dn - 127.5, compute_uv=False)
    tail = np.sum(values[int(_value(step, "rank")) :] ** 2) / dn.size
    return float(np.sqrt(tail + _value(step, "step") ** 2 / 12 + 1 / 12))


def _by_variance(dn: np.ndarray, step: str) -> float:
    rows, columns = dn.shape
    patches = dn.reshape(rows // 8, 8, columns // 8, 8).swapaxes(1, 2).reshape(-1, 64)
    values = np.linalg.svd(patches - patches.mean(axis=0), compute_uv=False) ** 2
    kept = np.cumsum(values) / values.sum()
    count = int(np.searchsorted(kept, _value(step, "variance") / 100 - 1e-9)) + 1
    tail = values[count:].sum() / dn.size
    return float(np.sqrt(tail + _value(step, "step") ** 2 / 12 + 1 / 12))


_PARSEVAL = (
    "The transform keeps energy (Parseval): the rms error of the coefficients is that of the "
    "samples."
)
LESSONS: dict[str, list[Lesson]] = {
    "dct": [
        Lesson(
            "The quantizer, halved and doubled",
            "Twice the step is about twice the error where most coefficients are coded, and less "
            "where most are 0 already; the rate falls by less than one bit for each coefficient.",
            tuple(
                f"dct step={n}dn block=8 optimise=off smooth=off"
                for n in (4, 8, 16, 32, 64, 128)
            ),
            _by_step,
            _PARSEVAL,
        ),
        Lesson(
            "Optimised, smoothed",
            "The same steps with joined blocks, rate-distortion optimisation and smoothing, as by "
            "default: less rate, and a better trade of rate and error.",
            tuple(f"dct step={n}dn" for n in (16, 32, 64, 128)),
        ),
        Lesson(
            "Blocks from 2x8 to the whole picture",
            "Small blocks cannot use similarity over larger distances; large ones spread the error "
            "of an edge as ripples over all of the block. The best size depends on the picture: "
            "this one is of small flat fields with sharp edges. Without `block` they are "
            "8x8, joined to 16x16 and 32x32 where that takes fewer bits.",
            (
                *(f"dct step=80dn block={b} smooth=off" for b in ("2x8", 4, 8, 16, 64, 200)),
                "dct step=80dn smooth=off",
            ),
        ),
        Lesson(
            "Coefficients below a threshold left out",
            "What a threshold leaves out is fine texture first, then faint edges.",
            tuple(
                f"dct step=2dn block=8 threshold={n}dn optimise=off smooth=off"
                for n in (5, 15, 40, 120)
            ),
            _by_threshold,
            _PARSEVAL,
        ),
        Lesson(
            "10 %, 5 %, 1 % and 0.2 % of the coefficients",
            "1 % is less than one coefficient for each 8x8 block: blocks of one tone, or none.",
            tuple(
                f"dct step=2dn block=8 keep={n}% optimise=off smooth=off"
                for n in (10, 5, 1, 0.2)
            ),
            _by_share,
            _PARSEVAL,
        ),
        Lesson(
            "The back end",
            "The same numbers, so the same picture, packed in three ways.",
            tuple(f"dct step=16dn backend={b}" for b in ("range", "zlib", "raw")),
        ),
    ],
    "wavelet": [
        Lesson(
            "Steps and filters",
            "No blocks: coarse steps blur and ring instead. Haar shows the squares it is made of.",
            (
                *(f"wavelet step={n}dn" for n in (8, 32, 96)),
                "wavelet step=32dn filter=5/3",
                "wavelet step=32dn filter=haar",
                "wavelet step=1dn filter=5/3",
            ),
        ),
    ],
    "svd": [
        Lesson(
            "Ranks 1 to 200",
            "A term is a product of one column and one row: structure along rows and columns comes "
            "first, slants need many terms.",
            tuple(f"svd rank={n} step=0.5dn" for n in (1, 5, 20, 50, 100, 200)),
            _by_rank,
            "The error of rank k is the tail of the singular values, √(Σ_{i>k} s_i² / N) "
            "(Eckart and Young).",
        ),
        Lesson(
            "Block by block",
            "In a small block few terms go far.",
            (*(f"svd block={b} error=8dn" for b in (8, 16, 56)), "svd error=8dn"),
        ),
    ],
    "pca": [
        Lesson(
            "Variance 50 % to 97 %",
            "Half of the variance is in a component or two; the last percents make it sharp.",
            tuple(f"pca variance={n}% step=0.5dn" for n in (50, 75, 90, 97)),
            _by_variance,
            "The error is the variance that was not kept.",
        ),
        Lesson(
            "Patches and rows",
            "The same number of components, learned from patches of 8x8 or from whole rows.",
            ("pca components=4", "pca components=16", "pca components=4 of=rows",
             "pca components=16 of=rows"),
        ),
    ],
    "fourier": [
        Lesson(
            "10 %, 5 %, 1 % and 0.2 % of the coefficients",
            "A wave runs through the whole picture, so an edge takes very many of them; few leave "
            "waves everywhere. Phases tell where things are: few bits for them blur it all.",
            (*(f"fourier keep={n}%" for n in (10, 5, 1, 0.2)), "fourier keep=5% phase-bits=3"),
        ),
    ],
    "bit-planes": [
        Lesson(
            "Planes from the top",
            "Each plane halves the error, and costs more than the one before: the lower, the more "
            "it is like noise.",
            tuple(f"bit-planes keep={n}" for n in (1, 2, 4, 6)),
        ),
    ],
    "pcm": [
        Lesson(
            "Bits of a sample",
            "The same error as from as many planes; coded by prediction from neighbours.",
            tuple(f"pcm bits={n}" for n in (1, 2, 4, 6)),
        ),
    ],
    "predictive": [
        Lesson(
            "Bounds on the largest error",
            "Within a bound of 0 nothing is lost; each further digital number saves less.",
            tuple(f"predictive bound={n}" for n in (0, 1, 3, 8)),
        ),
    ],
}  # fmt: skip


def main(target: Path) -> None:
    pictures = target / "codecs"
    shutil.rmtree(pictures, ignore_errors=True)
    pictures.mkdir()
    scene = SCENES[1].picture(640, 448, 0).luma()
    reference = Picture(scene.samples[120:344, 170:490].copy(), 8, "gray", "veined-breccia")
    methods = every("codec")
    own = [m for m in methods if not m.yardstick]
    sections = [section for m in own for section in _section(m, reference, pictures)]
    sections += ["\n## Cutting an embedded file\n", *_cutting(reference, pictures)]
    sections += ["\n## Yardsticks\n", _YARDSTICKS]
    for method in (m for m in methods if m.yardstick):
        sections += [f"\n### `{method.name}`\n", method.formula, "", *settings_table(method)]
        sections += [f"Source: {method.source}."]
    (target / "codecs.md").write_text("\n".join([_INTRODUCTION, *sections]) + "\n")


_YARDSTICKS = """\
Codecs of open standards, by the libraries that read and write their files: to compare with. Their
whole file is in the `.mgt` file, and so in the rate."""


def _section(method: Method, reference: Picture, pictures: Path) -> list[str]:
    lines = [f"\n## `{method.name}`\n", method.summary, "", method.formula, ""]
    lines += settings_table(method)
    if method.one_of:
        lines.append(
            f"Exactly one of {', '.join(f'`{key}=`' for key in method.one_of)} must be given.\n"
        )
    lines += [f"Colour: {method.colour.value}. Source: {method.source}."]
    for number, lesson in enumerate(LESSONS[method.name], 1):
        path = pictures / f"{method.name}-{number}.png"
        coded = [compress(reference, step) for step in lesson.steps]
        lines += _lesson(lesson, reference, coded, path)
    return lines


def _lesson(lesson: Lesson, reference: Picture, coded: list[Compressed], path: Path) -> list[str]:
    _draw(reference, coded, list(lesson.steps), path)
    titles = ["step", "bpp", "PSNR dB", "rms error dn"]
    if lesson.predicted:
        titles.append("predicted dn")
    rows = ["| " + " | ".join(titles) + " |", "|" + "---|" * len(titles)]
    for step, made in zip(lesson.steps, coded, strict=True):
        error = made.picture.samples.astype(float) - reference.samples
        rms = float(np.sqrt(np.mean(error**2)))
        cells = [f"`{step}`", f"{made.bpp:.3f}", _decibels(reference, made), f"{rms:.3f}"]
        if lesson.predicted:
            cells.append(f"{lesson.predicted(reference.samples.astype(float), step):.3f}")
        rows.append("| " + " | ".join(cells) + " |")
    words = " ".join(filter(None, [lesson.words, lesson.why]))
    picture = f"![{lesson.title}](codecs/{path.name})"
    return [f"\n### {lesson.title}\n", words, "", *rows, "", picture]


def _cutting(reference: Picture, pictures: Path) -> list[str]:
    """One `wavelet` file, cut again and again."""
    whole = compress(reference, "wavelet step=2dn")
    sizes = [len(whole.data) // divisor for divisor in (1, 2, 4, 8, 16, 32)]
    made = [whole, *(cut(whole, size) for size in sizes[1:])]
    names = [f"{len(one.data)} bytes" for one in made]
    _draw(reference, made, names, pictures / "cut.png")
    parts = list(whole.parts)
    lines = [
        "The first bytes of a `wavelet` file are a picture already; each further one makes it "
        "better. One file, cut, and the remainder of each subband:\n",
        f"| bytes | bpp | PSNR dB | {' | '.join(parts)} |",
        "|" + "---|" * (3 + len(parts)),
    ]
    for one in made:
        bytes_ = " | ".join(str(one.parts.get(part, 0)) for part in parts)
        score = _decibels(reference, one)
        lines.append(f"| {len(one.data)} | {one.bpp:.3f} | {score} | {bytes_} |")
    return [*lines, "", "![One file, cut](codecs/cut.png)"]


def _decibels(reference: Picture, made: Compressed) -> str:
    value = psnr(reference.samples, made.picture.samples, 255)
    return "∞" if np.isinf(value) else f"{value:.2f}"


def _draw(reference: Picture, coded: list[Compressed], names: list[str], path: Path) -> None:
    titles = ["reference"]
    for name, made in zip(names, coded, strict=True):
        figures = f"{made.bpp:.3g} bpp, PSNR {_decibels(reference, made)} dB"
        titles.append(f"{name.partition(' optimise')[0]}\n{figures}")
    save(sheet([reference, *(made.picture for made in coded)], titles, CROP, columns=4), path)
    Image.open(path).convert("L").save(path, optimize=True)  # all of it is gray


if __name__ == "__main__":
    main(Path(sys.argv[1]))
