"""Coarser gray levels."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from magnetite.core.degrade.certificate import Change, Finding, rms
from magnetite.core.parameters import Count
from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, degradation


def _certify_levels(change: Change, *, bits: int) -> list[Finding]:
    step = 1 / (2**bits - 1)
    outside = float(np.mean((change.before < -step / 2) | (change.before > 1 + step / 2)))
    used = np.unique(np.rint(change.drawn / step)).size
    error = Finding(
        "rms error", "fs", None, rms(change.drawn - change.before),
        rms(change.stored - change.before),
    )  # fmt: skip
    return [
        Finding("share beyond the levels", "share", None, outside, outside),
        Finding("levels used", f"of {2**bits}", None, used, used),
        Finding("step", "fs", step, step),
        Finding("rms error if evenly spread (step/√12)", "fs", None, step / math.sqrt(12)),
        error,
    ]


@degradation(
    "quantize",
    summary="Round samples to evenly spaced levels that include black and full scale.",
    colour=ColourPolicy.EACH,
    source="Gersho and Gray, Vector Quantization and Signal Compression (1992), section 5.2",
    certify=_certify_levels,
)
def quantize(
    pixels: Pixels, _rng: np.random.Generator | None = None, *, bits: Annotated[int, Count(1, 16)]
) -> Pixels:
    """Uniform quantizer with `2^bits` levels from 0 to 1: `round(x / s) s`, s = 1 / (2^bits - 1).

    Samples beyond black or full scale take the outermost level, and the certificate says how
    many they were.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    bits : int
        Levels as a power of two, 1 to 16. The picture keeps its own bit depth.

    Returns
    -------
    float array of the same shape and dtype, within 0..1.
    """
    steps = pixels.dtype.type(2**bits - 1)
    return np.rint(pixels.clip(0, 1) * steps) / steps
