"""Metrics of information that both pictures share."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64, Indices, Pixels
from magnetite.core.compute.bands import by_bands
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.methods.catalogue import ColourPolicy, metric
from magnetite.core.metrics.kernels.moments import Moments, window_mean, window_moments
from magnetite.core.picture.least_size import check_size

#: Variance of the visual noise, on the scale of 8 bits (Sheikh and Bovik 2006).
VISUAL_NOISE = 2.0
_SCALES = 4
_BINS = 256


@metric(
    "vif",
    summary="Visual information fidelity, pixel domain: information that the eye still receives.",
    colour=ColourPolicy.LUMA,
    source="Sheikh and Bovik, IEEE Trans. Image Processing 15(2), 2006, "
    "doi:10.1109/TIP.2005.859378",
    unit="",
    values="0 and up; above 1 where contrast was raised",
    better="higher",
    identical=1.0,
    smallest="41x41",
    memory=120,
)
def vif(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """`Σ log(1 + g² sx² / (sv² + 2)) / Σ log(1 + sx² / 2)` over windows of four scales, on luma.

    In each window `g = sxy / sx²` and `sv² = sy² - g sxy` (population moments, Gaussian weights of
    17, 9, 5 and 3 taps, sd a fifth of that; windows that fit). From scale to scale the pictures
    are smoothed by the new window and every other sample is kept. The visual noise of variance 2
    is on the scale of 8 bits. Above 1 where contrast was enhanced; 1 where both pictures are flat,
    0 where only the reference is.
    """
    check_size("vif", reference, 41)
    if np.array_equal(reference, test):
        return 1.0
    x, y = reference * (255 / peak), test * (255 / peak)
    kept = there = 0.0
    for scale in range(_SCALES):
        taps = 2 ** (_SCALES - scale) + 1
        weights = gaussian_kernel(taps / 5, radius=taps // 2)
        if scale:
            x, y = window_mean(x, weights)[::2, ::2], window_mean(y, weights)[::2, ::2]
        m = window_moments(x, y, weights)
        informed = by_bands(lambda *parts: _informed(Moments(*parts)), *m)
        kept += float(informed[:, 0].sum())
        there += float(informed[:, 1].sum())
    if there < 1e-9:
        return 1.0 if float(np.ptp(y)) == 0 else 0.0
    return kept / there


def _informed(m: Moments) -> Float64:
    """Information on the reference in the test, and in the reference itself, for each row."""
    gain = np.divide(
        m.covariance, m.variance_x, out=np.zeros_like(m.covariance), where=m.variance_x > 1e-10
    )
    gain = gain.clip(0, None)
    noise = (m.variance_y - gain * m.covariance).clip(1e-10, None)
    kept = np.log1p(gain**2 * m.variance_x / (noise + VISUAL_NOISE)).sum(axis=1)
    return np.stack([kept, np.log1p(m.variance_x / VISUAL_NOISE).sum(axis=1)], axis=1)


@metric(
    "mutual-information",
    summary="Bits of information of a sample of one picture on that of the other.",
    colour=ColourPolicy.LUMA,
    source="Cover and Thomas, Elements of Information Theory, 2nd ed. (2006), chapter 2",
    unit="bit",
    values="0 to 8",
    better="higher",
    identical=None,
    mask="samples",
    clips=True,
)
def mutual_information(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """`Σ p(a, b) log2(p(a, b) / (p(a) p(b)))` over the joint histogram of luma.

    256 even bins from 0 to full scale, centred on the digital numbers of 8 bits.

    For identical pictures the entropy of their histogram.
    """
    one, two = (_bins(plane, peak) for plane in (reference, test))
    counts = np.bincount(one * _BINS + two, minlength=_BINS**2)
    joint = counts.reshape(_BINS, _BINS) / one.size
    apart = np.outer(joint.sum(axis=1), joint.sum(axis=0))
    held = joint > 0
    return max(0.0, float((joint[held] * np.log2(joint[held] / apart[held])).sum()))


def _bins(plane: Pixels, peak: float) -> Indices:
    numbers = np.rint(plane.ravel() * ((_BINS - 1) / peak)).clip(0, _BINS - 1)
    return np.asarray(numbers, dtype=np.intp)
