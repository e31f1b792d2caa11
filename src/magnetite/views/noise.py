"""The noise of a degradation: the difference itself, its histogram, its spectrum."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from magnetite.core.analysis.spectrum import radial_power
from magnetite.core.arrays import Float64
from magnetite.core.degrade.certify.noise import LAPLACE, NORMAL, UNIFORM, Distribution
from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import Picture
from magnetite.core.picture.matching import check_comparable
from magnetite.core.quantities import significant
from magnetite.views.spectrum import draw_radial
from magnetite.views.style import CHANNELS, COLOURS, QUIET, bare, fitted, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

DISTRIBUTIONS = {d.name: d for d in (NORMAL, UNIFORM, LAPLACE)}
_MOST_BINS = 121


@dataclass(frozen=True)
class Declared:
    """Declared distribution of a noise, with mean and sd in dn."""

    distribution: Distribution
    mean: float
    sd: float


def declared_noise(
    certificate: dict[str, Any], reference: Picture, test: Picture
) -> Declared | None:
    """The distribution that the certificate of a picture declares for its noise, if any.

    Raises
    ------
    InputError
        If it is the certificate of other samples, or of a chain that does more than add noise.
    """
    try:
        sources = certificate["reference"]["sha256"], certificate["result"]["sha256"]
        steps = [_declared(step["findings"]) for step in certificate["steps"]]
    except (AttributeError, KeyError, TypeError, ValueError):
        raise InputError("is not a certificate of a degradation") from None
    if sources != (reference.digest().hex(), test.digest().hex()):
        raise InputError("does not match the samples of these pictures")
    if len(steps) > 1 and any(steps):
        raise InputError("the chain has other steps besides the noise")
    return steps[-1] if steps else None


def _declared(findings: list[dict[str, Any]]) -> Declared | None:
    """The declaration of a step."""
    asked = {finding["quantity"]: finding["asked"] for finding in findings}
    for finding in findings:
        law = DISTRIBUTIONS.get(finding.get("distribution", ""))
        if law is not None and {"mean", "sd"} <= asked.keys():
            return Declared(law, float(asked["mean"]), float(asked["sd"]))
    return None


def noise_figure(reference: Picture, test: Picture, declared: Declared | None = None) -> Figure:
    """The equation reference + noise = sum at one scale; the noise scaled for sight, its
    histogram with the declared density, its radial spectrum for each channel.

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
    wide = 390.0
    tall = wide * min(reference.height / reference.width, 1.0)
    height = tall + 500
    figure = new_figure(1280, height)
    headline(
        figure,
        f"{test.origin} minus {reference.origin}: mean {significant(difference.mean(), 4)}, "
        f"sd {significant(sd, 4)} {reference.amplitude_words}",
    )
    _draw_equation(figure, reference, test, difference / scale, (wide, tall))
    foot, room = 60 / height, 330 / height
    image = figure.add_axes((26 / 1280, foot, wide / 1280, room))
    histogram = figure.add_axes((500 / 1280, foot, 330 / 1280, room))
    spectrum = figure.add_axes((910 / 1280, foot, 345 / 1280, room))
    image.imshow((difference / reach / 2 + 0.5).clip(0, 1), cmap="gray", vmin=0, vmax=1)
    image.set_anchor("NW")
    bare(image)
    ends = f"{significant(reach)} {unit}"
    image.set_title(f"noise alone: black −{ends}, gray 0, white +{ends}", fontsize=10)
    _draw_histogram(histogram, difference, unit, reference.bits is not None, declared)
    if reference.colour == "rgb":
        for channel, (name, colour) in enumerate(CHANNELS):
            draw_radial(spectrum, *radial_power(difference[..., channel]), name, colour)
    else:
        draw_radial(spectrum, *radial_power(difference), "difference", COLOURS[0])
    white = 10 * math.log10(max(sd**2, 1e-12))
    spectrum.axhline(white, color=QUIET, ls="--", lw=1.4, label="white noise of this sd")
    low, high = spectrum.get_ylim()
    spectrum.set_ylim(min(low, white - 6), max(high, white + 6) + 3)
    spectrum.legend(frameon=False, loc="upper right", fontsize=9)
    spectrum.set_title("power over frequency", fontsize=10)
    spectrum.set_ylabel(f"dB of 1 {unit}²")
    return figure


def _draw_equation(
    figure: Figure, reference: Picture, test: Picture, noise: Float64, size: tuple[float, float]
) -> None:
    """Reference, noise about mid-gray, and sum, on one gray scale, with the signs between them."""
    wide, tall = size
    height = figure.get_figheight() * figure.dpi
    terms = (
        (reference.origin, reference.on_scale(1.0), "+"),
        ("noise at the same scale, mid-gray is 0", noise + 0.5, "="),
        (test.origin, test.on_scale(1.0), ""),
    )
    for k, (title, pixels, sign) in enumerate(terms):
        left = 26 + k * (wide + 29)
        axes = figure.add_axes((left / 1280, 1 - (68 + tall) / height, wide / 1280, tall / height))
        axes.imshow(pixels.clip(0, 1), cmap="gray", vmin=0, vmax=1)
        bare(axes)
        axes.set_title(fitted(title, wide, 10), fontsize=10)
        figure.text(
            (left + wide + 14.5) / 1280, 1 - (68 + tall / 2) / height, sign, ha="center",
            va="center", fontsize=18,
        )  # fmt: skip


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
        label = f"declared: {law.name}, sd {significant(sd, 4)} {unit}"
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
