"""What a degradation added: the difference itself, its histogram, its spectrum."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.analysis.spectrum import radial_power
from magnetite.core.arrays import Float64
from magnetite.core.degrade.certify.noise import LAPLACE, NORMAL, UNIFORM, Distribution
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture
from magnetite.core.picture.matching import check_comparable
from magnetite.views.spectrum import draw_radial
from magnetite.views.style import COLOURS, QUIET, bare, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

DISTRIBUTIONS = {d.name: d for d in (NORMAL, UNIFORM, LAPLACE)}
_MOST_BINS = 121


@dataclass(frozen=True)
class Declared:
    """What a certificate declares of a noise: its distribution, and mean and sd in dn."""

    distribution: Distribution
    mean: float
    sd: float

    @classmethod
    def of(cls, certificate: dict[str, object]) -> Declared | None:
        """What the last noise step of a certificate declares, or None."""
        found = None
        steps = certificate.get("steps")
        for step in steps if isinstance(steps, list) else []:
            asked = {f["quantity"]: f["asked"] for f in step["findings"]}
            for name in (f.get("distribution") for f in step["findings"]):
                if name in DISTRIBUTIONS and {"mean", "sd"} <= asked.keys():
                    found = cls(DISTRIBUTIONS[name], asked["mean"], asked["sd"])
        return found


def noise_figure(reference: Picture, test: Picture, declared: Declared | None) -> Figure:
    """Difference image scaled for sight, histogram with the declared density, radial spectrum.

    Raises
    ------
    PictureError
        If the pictures differ in size or colour, or are planes. Another depth is brought to the
        reference's.
    """
    check_comparable(reference, test, any_depth=True)
    if reference.colour == "planes":
        raise PictureError(
            f"the difference of gray and RGB pictures is drawn, not of {reference.channels} planes"
        )
    scale = reference.full_scale
    difference = test.on_scale(scale) - reference.on_scale(scale)
    unit, sd = reference.amplitude_unit, float(difference.std())
    reach = float(np.quantile(np.abs(difference), 0.999)) or reference.full_scale / 255
    aspect = reference.height / reference.width
    figure = new_figure(1280, 560)
    figure.suptitle(
        f"{test.origin} minus {reference.origin}: mean {difference.mean():.4g}, "
        f"sd {sd:.4g} {reference.amplitude_words}",
        x=0.03, ha="left", fontsize=13,
    )  # fmt: skip
    width = min(0.42, 0.66 * 560 / 1280 / aspect)
    image = figure.add_axes((0.03, 0.14, width, 0.7))
    left = 0.03 + width + 0.055
    each = (0.985 - left - 0.055) / 2
    histogram = figure.add_axes((left, 0.13, each, 0.71))
    spectrum = figure.add_axes((left + each + 0.055, 0.13, each, 0.71))
    image.imshow((difference / reach / 2 + 0.5).clip(0, 1), cmap="gray", vmin=0, vmax=1)
    image.set_anchor("N")
    bare(image)
    image.set_title(f"black −{reach:.3g} {unit}, gray 0, white +{reach:.3g} {unit}", fontsize=10)
    _draw_histogram(histogram, difference, unit, reference.bits is not None, declared)
    frequency, power = radial_power(difference)
    draw_radial(spectrum, frequency, power, "difference", COLOURS[0])
    white = 10 * math.log10(max(sd**2, 1e-12))
    spectrum.axhline(white, color=COLOURS[1], ls="--", lw=1.4, label="white noise of this sd")
    low, high = spectrum.get_ylim()
    spectrum.set_ylim(min(low, white - 6), max(high, white + 6) + 3)
    spectrum.legend(frameon=False, loc="upper right", fontsize=9)
    spectrum.set_title("power over frequency", fontsize=10)
    spectrum.set_ylabel(f"dB of 1 {unit}²")
    return figure


def _draw_histogram(
    axes: Axes, difference: Float64, unit: str, whole: bool, declared: Declared | None
) -> None:
    reach = float(np.quantile(np.abs(difference), 0.9995)) or 1.0
    if whole:
        width = max(1, math.ceil(2 * reach / _MOST_BINS))
        side = math.ceil(reach / width) + 1
        edges = (np.arange(-side, side + 2) - 0.5) * width
    else:
        edges = np.linspace(-1.1 * reach, 1.1 * reach, _MOST_BINS)
    counts, _ = np.histogram(difference, edges)
    share = 100 * counts / difference.size
    axes.stairs(share, edges, fill=True, color="#9db8cc", label="measured")
    if declared is None:
        label, law = "normal of the same mean and sd", NORMAL
        mean, sd = float(difference.mean()), float(difference.std())
    else:
        law, mean, sd = declared.distribution, declared.mean, declared.sd
        label = f"declared: {law.name}, sd {sd:.4g} {unit}"
    if sd > 0:
        expected = 100 * np.diff(law.cumulative(np.asarray((edges - mean) / sd, np.float64)))
        middle = (edges[1:] + edges[:-1]) / 2
        axes.plot(middle, expected, color=COLOURS[1], lw=1.6, label=label)
    axes.set_xlabel(f"difference ({unit})")
    axes.set_ylabel("% of the samples")
    axes.set_title("histogram", fontsize=10)
    top = max(float(share.max()), float(expected.max()) if sd > 0 else 0.0)
    axes.set_ylim(0, 1.22 * top)
    axes.legend(frameon=False, loc="upper left", fontsize=9)
    axes.spines["left"].set_color(QUIET)
