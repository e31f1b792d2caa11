"""Make docs/degradations.md and its pictures from the declarations: make docs."""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path

import numpy as np

import magnetite
from magnetite.cli.methods import settings_table
from magnetite.core.methods.catalogue import Method, every
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.core.quantities import figure
from magnetite.synthetic.catalogue import SCENES

#: A setting of each degradation that can be seen in a small picture.
EXAMPLES = {
    "gaussian-noise": "sd=10%",
    "uniform-noise": "sd=10%",
    "laplace-noise": "sd=10%",
    "salt-pepper": "density=8%",
    "impulse-noise": "density=12%",
    "poisson-noise": "photons=40",
    "speckle": "contrast=0.35",
    "sensor-noise": "full-well=400e read=6e row=14e prnu=3%",
    "banding": "amplitude=9% period=9 angle=75",
    "coloured-noise": "sd=14% slope=2",
    "gaussian-blur": "sigma=2.5",
    "box-blur": "size=7",
    "defocus": "radius=4.5",
    "motion-blur": "length=14 angle=35",
    "psf-blur": "kernel=kernel.npy",
    "downsample": "factor=4 kernel=none",
    "upsample": "factor=2",
    "shift": "right=12.5 down=-6",
    "to-linear": "standard=srgb",
    "to-encoded": "standard=srgb",
    "white-balance": "red=0.6 blue=1.3",
    "colour-matrix": "rows=1.6,-0.5,-0.1/-0.2,1.4,-0.2/0,-0.6,1.6",
    "mosaic": "",
    "demosaic": "method=bilinear",
    "rotate": "angle=9",
    "quantize": "bits=1 dither=error-diffusion",
    "bit-planes": "keep=2",
    "contrast": "factor=0.4",
    "gamma": "exponent=2.2",
    "offset": "by=20%",
    "clip": "low=25% high=60%",
    "vignette": "loss=80%",
}
CROP = Region(180, 150, 176, 132)
_INTRODUCTION = """\
# Degradations

Made from the declarations and the demo's scenes by `make docs`. Each section gives the formula,
the settings, a picture of a strong example, and the figures of its certificate. x is a sample on
full-scale units, 0 black and 1 full scale. Between the steps of a chain samples stay float and may
leave 0..1; they are rounded and clipped once, at the end. A codec is a step of a chain like any
other: `gaussian-noise sd=5dn + dct step=10%`.

## Certificates

`magnetite degrade REF OUT STEPS…` writes `OUT.cert.json` and prints it. For each step it gives
the figures *asked* for, those *drawn* (measured on the step's result as computed), their *standard
error*, those *stored* after rounding and clipping, and a verdict: a random figure is `as asked`
within four standard errors, any other within 1 %. Where clipping or rounding changes the strength
of noise by 1 % or more, a line says by how much, with a remedy. `--overflow keep` writes a float
TIFF or NPY that clips nothing; `--overflow fail` refuses to clip.

## Aims

One setting may be `auto`: `magnetite degrade REF OUT gaussian-blur sigma=auto --aim ssim=0.80`
solves for it, on the stored picture, with the same random numbers at every try. An aim is reached
within 0.01 dB of PSNR, 0.0005 of SSIM, 0.5 % of any other metric or gauge, in at most 20 tries;
otherwise the reachable range is printed and the exit status is 1. A coarse quantizer moves flat
tones in jumps, over which no setting may hit the aim: `dither=rectangular` makes it even.

## Matching a camera

`magnetite calibrate noise FRAME_A FRAME_B…` fits gain, read noise, row noise and fixed pattern to
frames of still scenes or flat fields and prints the `sensor-noise` step that makes the same noise;
`magnetite calibrate chart PICTURE --chart OUT.json` measures both, and more, from one picture of a
[chart](howto/chart.md). `magnetite calibrate blur PICTURE` measures a slanted edge and prints the
blur step. Frames must be linear, black at 0.
"""


def main(target: Path) -> None:
    pictures = target / "degradations"
    shutil.rmtree(pictures, ignore_errors=True)
    pictures.mkdir()
    reference = SCENES[1].picture(640, 448, 0)
    reference = Picture(CROP.within(reference.samples), 8, "rgb", "veined-breccia")
    magnetite.write(reference, pictures / "reference.png")
    with tempfile.TemporaryDirectory() as folder:
        kernel = Path(folder) / "kernel.npy"
        np.save(kernel, np.array([[0, 0, 1, 3, 6], [0, 1, 3, 1, 0], [6, 3, 1, 0, 0]]))
        sections = [
            _section(method, reference, kernel, pictures) for method in every("degradation")
        ]
    picture = "![The reference](degradations/reference.png)"
    text = "\n".join([_INTRODUCTION, "The pictures below were this one:\n", picture, *sections])
    (target / "degradations.md").write_text(text)


def _section(method: Method, reference: Picture, kernel: Path, pictures: Path) -> str:
    step = f"{method.name} {EXAMPLES[method.name]}".strip()
    step = f"mosaic + {step}" if method.name == "demosaic" else step
    degraded = magnetite.degrade(reference, step.replace("kernel.npy", str(kernel)))
    magnetite.write(degraded.picture, pictures / f"{method.name}.png")
    lines = [f"\n## `{method.name}`\n", method.summary, "", method.formula, ""]
    lines += settings_table(method)
    if method.one_of:
        keys = ", ".join(f"`{key}=`" for key in method.one_of)
        lines.append(f"Exactly one of {keys} must be given.\n")
    lines += [f"Colour: {method.colour.value}. Source: {method.source}.\n"]
    lines += [f"`{step}`:\n", f"![{method.name}](degradations/{method.name}.png)\n"]
    lines += _certificate(degraded.certificate.steps[-1].findings)
    return "\n".join([*lines, *(_interpolations() if method.name == "demosaic" else [])])


def _interpolations() -> list[str]:
    """PSNR of each interpolation on colour pictures, over all three channels."""
    from sklearn.datasets import load_sample_images

    scenes = ((scene.name, scene.picture(640, 448, 0)) for scene in SCENES)
    pictures = {name: one.samples for name, one in scenes if one.colour == "rgb"}
    for number, photograph in enumerate(load_sample_images().images, 1):
        pictures[f"photograph {number} of scikit-learn"] = photograph[:426, :640]
    methods = ("bilinear", "gradient", "directional")
    rows = [f"| PSNR, dB | {' | '.join(methods)} |", "|---|---|---|---|"]
    for name, samples in pictures.items():
        # Without 8 px at the edges, where the pattern is mirrored.
        made = [magnetite.degrade(samples, f"mosaic + demosaic method={one}") for one in methods]
        found = [magnetite.score(samples, one.picture, "psnr", border=8)["psnr"] for one in made]
        rows.append(f"| {name} | {' | '.join(f'{one:.2f}' for one in found)} |")
    return ["", "`mosaic + demosaic`, against the picture before the mosaic:", "", *rows]


def _certificate(findings: object) -> list[str]:
    rows = ["| figure | unit | asked | drawn | ± error | stored |", "|---|---|---|---|---|---|"]
    for f in findings:
        figures = (f.asked, f.drawn, f.standard_error, f.stored)
        rows.append(f"| {f.quantity} | {f.unit} | {' | '.join(map(figure, figures))} |")
    return rows


if __name__ == "__main__":
    main(Path(sys.argv[1]))
