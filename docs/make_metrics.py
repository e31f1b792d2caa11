"""Make docs/metrics.md from the declarations: make docs."""

from __future__ import annotations

import inspect
import re
import sys
from pathlib import Path

from magnetite.cli.methods import settings_table
from magnetite.core.methods.catalogue import Method, every

_INTRODUCTION = """\
# Metrics and gauges

Made from the declarations by `make docs`. A metric scores a test picture against its reference; a
gauge reads one picture alone. `magnetite methods NAME` prints a section of this page.

## What holds for all of them

- **Scale.** Samples are brought to full scale 255 in float64 before anything is measured, whatever
  the bit depth; "dn" in a score are those of 8 bits. The peak of PSNR and SSIM is full scale.
  8-bit, 16-bit and float versions of a pair agree as far as their rounding lets them.
- **Colour.** "Each channel separately" is the mean over the channels of the score; "all channels
  together" pools all samples; "luma" is `0.299 R + 0.587 G + 0.114 B` of the encoded samples (ITU-R
  BT.601), for gray and RGB only; colour differences take the samples as sRGB with white D65.
- **Windows and edges.** Metrics of windows use those that lie wholly inside the picture; nothing is
  padded, unless a section says so. Variances and covariances are population moments (divided by n).
- **Identical pictures** give the value of the table, exactly, and are marked as identical.
- **Which way is better.** A star marks the best of several tests; sizes of a difference mean
  something within one metric only.
- **Depths and colours that differ** are refused. `--mixed-depths` brings the tests to the
  reference's depth, `--gray` scores the luma of both.

## Parts of a picture

`--region LEFT,TOP,WIDTHxHEIGHT` and `--crop-border PX` cut both pictures before they are scored.
`--mask PICTURE` counts only where the mask is not black: metrics of single samples take just those
(column "mask": samples), metrics of windows the windows wholly inside (windows), the others refuse.

`--align` finds the shift between the pictures by phase correlation (Kuglin and Hines 1975): the
phases of the cross-power spectrum of both, under Hann windows, are weighted by a Gaussian of sd
0.12 cycles per px, and the top of the Gaussian that they make is found from 3x3 samples. A shift
within 0.03 px of whole px only crops both pictures to their common part. Any other
interpolates the test by splines of the fifth order, rounds to its depth, and leaves out 8 px more
along the edges; as interpolation smooths a little, a shifted picture never scores quite as it would
have unshifted. The shift is printed and is part of JSON and CSV.

## Repeats

`--repeats` takes all tests of a reference as repeats, of several seeds for instance, and gives
their mean, sample sd (n - 1) and the 95 % interval of the mean, `mean ± t sd / √n` with Student's
t. Tests that hold the same samples are one repeat, and references that do are one reference; a note
names them.

## Maps and curves

`score --maps FOLDER` writes, for each test, the absolute error (mean over the channels), SSIM,
GMSD's gradient similarity (at half size) and CIEDE2000 as float TIFF and as one figure. `gauge
--curves FOLDER` writes noise over signal and the whole MTF of the best slanted edge as CSV and as a
figure.

The noise curve sorts tiles of 8x8 px by their mean; in each of 16 levels the quarter whose 2x2
means vary least tells the noise by its diagonal Haar coefficients (after Liu, Freeman, Szeliski and
Kang, CVPR 2006). Texture as fine as the noise counts as noise. Levels are left out where clipping
at black or full scale narrows the noise.

## Scores that need not fall as a picture gets worse

On the demo's scenes all metrics get worse, or stay, from step to step of growing noise and of
growing blur, but for these:

- `psnr-b` under both: noise hides the borders of blocks, blur evens them out;
- `max-error` under both: one sample decides, and it ends at full scale;
- `gmsd` under both: a deviation falls again where everything is equally bad;
- `residual-structure` and `residual-whiteness` under both: they describe the change, not its size;
- `sam` and `delta-e-95` under blur: flat parts of a picture are left alone by it.

## Rate-distortion arithmetic

`magnetite.core.curves.comparison` has `bd_rate` and `bd_quality` (Bjontegaard, VCEG-M33, 2001): the
mean gap between two curves over their common range, log rate over quality or the other way round,
by piecewise cubic interpolation (PCHIP) or, on request, the third-order polynomial of the source.
`overlap` says how much of the smaller range both cover; below 30 % they refuse. `hull` is the upper
convex hull.

## The naturalness model

`magnetite calibrate naturalness PICTURE… --out MODEL.json` writes a JSON object:

| key | value |
|---|---|
| `kind` | `"magnetite naturalness model"` |
| `version` | 1 |
| `patch` | side of a patch, 96 px |
| `pictures`, `patches` | how many went in |
| `features` | 36 names: 18 at the fine scale, 18 of the 2x2 means |
| `mean` | 36 means |
| `covariance` | 36 lists of 36, divided by n - 1 |

The 18 features of a scale: shape and width (mean of left and right) of the normalised luminance,
then for the products of neighbours across, down, diagonal and counter-diagonal the shape, mean,
left and right width of an asymmetric generalised Gaussian fitted by moments.
"""


def table(methods: list[Method]) -> list[str]:
    """One line for each method."""
    gauges = methods[0].kind == "gauge"
    titles = ["name", "unit", "values"]
    titles += [] if gauges else ["better", "identical"]
    titles += ["colour", "smallest picture"]
    titles += [] if gauges else ["mask"]
    lines = [f"| {' | '.join(titles)} |", "|---" * len(titles) + "|"]
    for method in methods:
        cells = [f"[`{method.name}`](#{method.name})", method.unit or "–", method.values]
        if not gauges:
            same = method.identical
            cells += [method.better, "depends" if same is None else f"{same:g}"]
        cells += [method.colour.value, method.smallest]
        if not gauges:
            cells.append(method.mask or "–")
        lines.append(f"| {' | '.join(cells)} |")
    return lines


def section(method: Method) -> list[str]:
    """All there is to know of one."""
    text = inspect.getdoc(method.function) or ""
    returns = re.search(r"Returns\n-+\nfloat\n(.*?)(?:\n\n\w+\n-+\n|\Z)", text, re.DOTALL)
    lines = [f"### {method.name}", "", method.summary, "", method.formula, ""]
    if returns:
        lines += [f"Result: {' '.join(returns[1].split())}", ""]
    lines += settings_table(method)
    return [*lines, f"Source: {method.source}.", ""]


def page() -> str:
    metrics, gauges = every("metric"), every("gauge")
    lines = [_INTRODUCTION, "## All metrics", "", *table(metrics), ""]
    lines += ["## All gauges", "", *table(gauges), "", "## Metrics", ""]
    lines += [line for method in metrics for line in section(method)]
    lines += ["## Gauges", ""]
    lines += [line for method in gauges for line in section(method)]
    return "\n".join(lines)


if __name__ == "__main__":
    Path(sys.argv[1], "metrics.md").write_text(page(), encoding="utf-8")
