"""What a restoration took away: noise, or the picture's own detail?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Mask, Pixels
from magnetite.core.compute.filters import convolve_separable
from magnetite.core.gauges.noise_level import noise_wavelet
from magnetite.core.metrics.residual import residual_structure
from magnetite.core.picture import Picture, luma
from magnetite.core.picture.clipping import clear_of_ends

#: From these on what was taken away is not mere noise.
STRUCTURED, EDGED = 0.1, 0.15
#: Smallest sides that can be judged, px.
SMALLEST = 16
#: The noise left is reported where it is more than this share of what was taken away.
_LEFT = 0.2
#: Share of the places where noise is not clipped that can be judged by.
_LEAST_CLEAR = 0.1
#: Share of the mean below which strengths are taken for alike.
_FLOOR = 0.05


@dataclass(frozen=True)
class TakenAway:
    """Figures of the difference, on luma.

    `sd`, and `left`, the sd of the noise that the restored picture still shows, are in the
    picture's own unit; `structure` the rms of its autocorrelation within 2 px;
    `edges` the correlation of its local strength with that of the restored picture's slopes;
    `sharper` whether the restored picture has the steeper slopes, in the mean of their squares.
    """

    sd: float
    structure: float
    edges: float
    sharper: bool = False
    left: float = 0.0
    unit: str = "dn"
    #: Whether noise is clipped at black or full scale nearly everywhere.
    clipped: bool = False

    def figures(self) -> list[tuple[str, float, str]]:
        """Name, value and unit of each."""
        return [
            ("sd", self.sd, self.unit),
            ("structure", self.structure, ""),
            ("edges", self.edges, ""),
            ("left", self.left, self.unit),
        ]

    @property
    def verdict(self) -> str:
        """In words what the figures say."""
        if self.clipped and max(self.edges / EDGED, self.structure / STRUCTURED) > 1:
            return f"{self._verdict}; but noise that is clipped, as here, looks the same"
        return self._verdict

    @property
    def _verdict(self) -> str:
        if self.sd == 0:
            return "nothing was taken away"
        if self.edges > EDGED and self.sharper:
            return "edges were made steeper: where there were none, noise was"
        if self.edges > EDGED:
            return "edges were taken away: detail is lost"
        if self.structure > STRUCTURED:
            return "what was taken away has structure: it is not white noise alone"
        if self.left > _LEFT * self.sd:
            return (
                "what was taken away looks like white noise, and noise of about "
                f"{self.left:.3g} {self.unit} is left"
            )
        return "what was taken away looks like white noise"


def taken_away(before: Picture, after: Picture) -> TakenAway | None:
    """Judge the difference of a picture and its restoration; None where it cannot be judged.

    That is for pictures below 16x16 and for planes without luma. Places where noise is clipped
    at black or full scale are left out, unless they are nearly all.
    """
    if before.colour == "planes" or min(before.height, before.width) < SMALLEST:
        return None
    pixels = before.pixels(), after.pixels()
    clear = clear_of_ends(*pixels, 1.0)
    clipped = clear is not None and bool(clear.mean() < _LEAST_CLEAR)
    clear = None if clipped else clear
    first, second = (luma(p) for p in pixels)
    difference = (first - second).astype(np.float64)
    steepness = [sum(float(np.mean(np.diff(p, axis=a) ** 2)) for a in (0, 1))
                 for p in (first, second)]  # fmt: skip
    return TakenAway(
        float(difference.std()) * before.full_scale,
        residual_structure(*pixels),
        _edges(difference, second.astype(np.float64), clear),
        steepness[1] > steepness[0],
        noise_wavelet(second, step=before.step) * before.full_scale,
        before.amplitude_unit,
        clipped,
    )


def _edges(difference: Pixels, restored: Pixels, clear: Mask) -> float:
    """Correlation of the logarithms of both local strengths, at places that are clear.

    A restoration that takes more where there are edges gives a positive number, one that
    spares them a negative one.
    """
    strengths = local_strengths(difference, restored)
    if clear is not None:
        strengths = strengths[0][clear], strengths[1][clear]
    one, two = (np.log(x + _FLOOR * x.mean() + 1e-30) for x in strengths)
    if one.std() < 1e-9 or two.std() < 1e-9:
        return 0.0
    return float(np.corrcoef(one.ravel(), two.ravel())[0, 1])


def local_strengths(difference: Pixels, restored: Pixels) -> tuple[Pixels, Pixels]:
    """Mean squares in windows of 5x5: of a difference, and of a picture's slopes."""
    line = np.full(5, 0.2)
    slopes = np.zeros_like(restored)
    slopes[:, 1:] += np.diff(restored, axis=1) ** 2
    slopes[1:] += np.diff(restored, axis=0) ** 2
    return convolve_separable(difference**2, line), convolve_separable(slopes, line)
