"""Blind tests of made-up pictures."""

from __future__ import annotations

import numpy as np

from magnetite.core.opinion.design import pairs_of
from magnetite.core.opinion.record import REFERENCE, BlindTest, Stimulus

LEVELS = tuple(float(v) for v in np.geomspace(0.5, 20, 16))


def blind(design: str, levels: tuple[float, ...], contents: int = 1, **more: object) -> BlindTest:
    """A test of pictures with these rms differences, of each reference."""
    stimuli = [
        Stimulus(f"c{c}s{k}", f"c{c}", f"gaussian-noise sd={v:.3g}dn" if k else REFERENCE,
                 "gaussian-noise" if k else REFERENCE, "d",
                 v if k else 0.0, v if k else None)
        for c in range(contents) for k, v in enumerate((0.0, *levels))
    ]  # fmt: skip
    pairs = [
        pair for c in range(contents)
        for pair in pairs_of([s.name for s in stimuli if s.content == f"c{c}"])
    ] if design == "pairs" else []  # fmt: skip
    settings = {"repeats": {"pairs": 2, "rating": 1, "threshold": 40}[design], "ties": False}
    settings |= {"magnification": 1, "pixels_per_degree": 60.0, "width": 64, "height": 48}
    return BlindTest(design, tuple(stimuli), tuple(pairs), **settings | more)  # type: ignore[arg-type]
