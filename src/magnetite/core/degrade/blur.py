"""Blur of known width, by kernels of unit sum."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Annotated, Any

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute import psf
from magnetite.core.compute.filters import Boundary, convolve, convolve_separable, within
from magnetite.core.compute.windows import gaussian_kernel, kernel_sd
from magnetite.core.degrade.certify.change import Finding
from magnetite.core.degrade.certify.survey import ChangeSurvey, Survey
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Angle, FileName, Length

_HECHT = "Goodman, Introduction to Fourier Optics, 4th ed. (2017), chapter 7"


def _kernel_survey(
    kernel: Float64, *transfers: Callable[[Float64], Float64], sd: Sequence[Finding] = ()
) -> Survey:
    """Figures of the kernel as applied, besides those of its transfer functions along x and y."""
    mtf50 = [psf.theoretical_mtf50(transfer) for transfer in transfers] or [None, None]
    shape = psf.shape_of(kernel)
    findings = [*sd, Finding("kernel sum", "", 1.0, shape.sum)]
    for axis, at, width, asked, drawn in zip(
        "xy", shape.centroid, shape.fwhm, mtf50, shape.mtf50, strict=True
    ):
        findings += [
            Finding(f"centroid {axis}", "px", None, at),
            Finding(f"FWHM {axis}", "px", None, width),
            Finding(f"MTF50 {axis}", "c/px", asked, drawn),
        ]
    return ChangeSurvey(findings)


def _survey_gaussian(before: Pixels, *, sigma: float, boundary: str) -> Survey:
    theory = psf.gaussian_transfer(sigma)
    sd = Finding("kernel sd", "px", sigma, kernel_sd(gaussian_kernel(sigma)))
    return _kernel_survey(psf.gaussian(sigma), theory, theory, sd=[sd])


@degradation(
    "gaussian-blur",
    summary="Convolve with a Gaussian.",
    colour=ColourPolicy.EACH,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3.5",
    survey=_survey_gaussian,
    reach=lambda *, sigma, boundary, **_: within(boundary, gaussian_kernel(sigma).size // 2),
)
def gaussian_blur(
    pixels: Pixels,
    *,
    sigma: Annotated[float, Length(0, 200), "standard deviation; 0 changes nothing"],
    boundary: Boundary = "mirror",
) -> Pixels:
    """Convolve with `exp(-(x² + y²) / 2 sigma²)`, sampled, of unit sum, cut at 4.5 sigma.

    Its MTF is `exp(-2 π² sigma² f²)`, MTF50 `0.187 / sigma`. Below about 0.7 px a sampled
    Gaussian is narrower than its name says; the certificate gives the kernel as applied.
    """
    return convolve_separable(pixels, gaussian_kernel(sigma), boundary)


def _survey_box(before: Pixels, *, size: float, boundary: str) -> Survey:
    theory = psf.segment_transfer(size)
    return _kernel_survey(psf.box(size), theory, theory)


@degradation(
    "box-blur",
    summary="Convolve with a square of even weights.",
    colour=ColourPolicy.EACH,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3.5",
    survey=_survey_box,
    reach=lambda *, size, boundary, **_: within(boundary, psf.segment(size).size // 2),
)
def box_blur(
    pixels: Pixels,
    *,
    size: Annotated[float, Length(1, 500), "side of the square; 1 changes nothing"],
    boundary: Boundary = "mirror",
) -> Pixels:
    """Mean over a square of side `size`; the outer samples of a fractional size count less.

    Its MTF along an axis is `sin(π size f) / (π size f)`, for samples, of an odd size,
    `sin(π size f) / (size sin(π f))`; MTF50 is about `0.603 / size`.
    """
    return convolve_separable(pixels, psf.segment(size), boundary)


def _survey_defocus(before: Pixels, *, radius: float, boundary: str) -> Survey:
    theory = psf.disk_transfer(radius)
    return _kernel_survey(psf.disk(radius), theory, theory)


@degradation(
    "defocus",
    summary="Convolve with a disk: a lens out of focus.",
    colour=ColourPolicy.EACH,
    source="Hopkins, Proc. Royal Society A 231, 1955, doi:10.1098/rspa.1955.0158; " + _HECHT,
    survey=_survey_defocus,
    reach=lambda *, radius, boundary, **_: within(boundary, max(psf.disk(radius).shape) // 2),
)
def defocus(
    pixels: Pixels,
    *,
    radius: Annotated[
        float, Length(0, 250), "radius of the blur circle; up to 1/2 changes nothing"
    ],
    boundary: Boundary = "mirror",
) -> Pixels:
    """Convolve with a disk of even weight; each kernel weight is the disk's area in the pixel.

    Its MTF is `2 J1(2π radius f) / (2π radius f)`, MTF50 `0.353 / radius`.
    """
    return convolve(pixels, psf.disk(radius), boundary)


def _reach_of_motion(*, length: float, angle: float, boundary: Boundary) -> int | None:
    return within(boundary, max(psf.motion(length, angle).shape) // 2)


def _survey_motion(before: Pixels, *, length: float, angle: float, boundary: str) -> Survey:
    turn = math.radians(angle)
    paths = abs(math.cos(turn)) * length, abs(math.sin(turn)) * length
    along_x, along_y = map(psf.segment_transfer, paths)
    return _kernel_survey(psf.motion(length, angle), along_x, along_y)


@degradation(
    "motion-blur",
    summary="Convolve with a straight line: a camera or subject that moved.",
    colour=ColourPolicy.EACH,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 5.6",
    survey=_survey_motion,
    reach=_reach_of_motion,
)
def motion_blur(
    pixels: Pixels,
    *,
    length: Annotated[float, Length(0, 500), "length of the path; 0 changes nothing"],
    angle: Annotated[float, Angle(), "direction, counter-clockwise from the x axis"] = 0.0,
    boundary: Boundary = "mirror",
) -> Pixels:
    """Mean along a path of `length` at an angle; each weight is the path's length in the pixel.

    Its MTF along the path is `sin(π length f) / (π length f)`, MTF50 `0.603 / length`;
    across it, 1.
    """
    return convolve(pixels, psf.motion(length, angle), boundary)


def _survey_psf(before: Pixels, *, kernel: Float64, boundary: str) -> Survey:
    return _kernel_survey(psf.measured(kernel))


@degradation(
    "psf-blur",
    summary="Convolve with a measured point spread, from a gray picture or NPY file.",
    colour=ColourPolicy.EACH,
    source=_HECHT,
    survey=_survey_psf,
    reach=lambda *, kernel, boundary, **_: within(boundary, max(np.shape(kernel))),
)
def psf_blur(
    pixels: Pixels,
    *,
    kernel: Annotated[
        Any,
        FileName("kernel.npy"),
        "weights, 0 or larger; of an even side the centre is right of, or below, the middle",
    ],
    boundary: Boundary = "mirror",
) -> Pixels:
    """Convolve with given weights, scaled to unit sum; their middle sample stays in place.

    Raises `PictureError` where a weight is negative or not finite, or all are 0.
    """
    return convolve(pixels, psf.measured(np.asarray(kernel, np.float64)), boundary)
