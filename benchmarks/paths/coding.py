"""Codecs, both ways."""

from __future__ import annotations

from measure import Setting, Work, case

import magnetite
from paths import yardsticks
from paths.pictures import gray


def _codec(step: str, goal: float, **facts: object) -> Setting:
    """A case of a codec's encoder and decoder: seconds at 12 megapixels."""

    def setting(megapixels: float) -> tuple[Work, None]:
        picture = gray(megapixels)
        return lambda: magnetite.expand(magnetite.compress(picture, step).data), None

    name = f"{step}, encode and decode"
    return case(name, yardstick="a second", goal=goal, size=12, rounds=2, **facts)(setting)


#: About 0.7 and 1.3 bpp.
coarse = _codec("wavelet step=14.5dn", 2, quick=False)
fine = _codec("wavelet step=9.7dn", 3, quick=False)
lossless = _codec("predictive", 3, quick=False)
blocks = _codec("dct step=24dn", 3, quick=False)


def _beside_gaussians(step: str) -> Setting:
    """The same beside Gaussian filters: a ratio that another machine shares."""

    def setting(megapixels: float) -> tuple[Work, Work]:
        picture = gray(megapixels)
        yardstick = yardsticks.gaussians(picture.pixels(), 10)
        return lambda: magnetite.expand(magnetite.compress(picture, step).data), yardstick

    name = f"{step}, both ways, against filters"
    return case(
        name, yardstick="ten SciPy Gaussian filters, float32", goal=None, size=1,
        sizes=(0.4, 4), rounds=3,
    )(setting)  # fmt: skip


ratios = [_beside_gaussians(step) for step in ("dct step=24dn", "wavelet step=24dn", "predictive")]
