"""The change by one step, and its figures for certificates."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.picture import Clipped, Picture

#: A measured figure agrees with the figure asked for within this many standard errors.
TOLERANCE_ERRORS = 4.0
#: ... or, for a figure that is not random, within this relative difference.
TOLERANCE_EXACT = 0.01


@dataclass(frozen=True)
class Change:
    """One step's work, on full-scale units and the step's own shape.

    `drawn` is the step's result as computed; `stored` is the same after rounding to the
    picture's digital numbers and clipping, as if the chain ended there.
    """

    before: Pixels
    drawn: Pixels
    stored: Pixels
    #: Samples clipped by storing.
    clipped: Clipped
    #: Number of its first row, in phase with the picture's mosaic.
    row: int = 0


@dataclass(frozen=True)
class Finding:
    """One figure of a step: asked for, drawn, and left after storing; None is not known.

    A figure in unit "fs" is an amplitude and is shown in the picture's own dn.
    """

    quantity: str
    unit: str
    asked: float | None
    drawn: float | None
    stored: float | None = None
    standard_error: float | None = None
    #: Of a distance in distribution: the name of the one that is declared.
    distribution: str = ""
    #: Largest value that is as asked, of a skewed figure.
    limit: float | None = None

    @property
    def verdict(self) -> str:
        """`as asked`, `off`, or empty where nothing was asked or measured."""
        if self.asked is None or self.drawn is None:
            return ""
        if self.limit is not None:
            return "as asked" if self.drawn <= self.limit else "off"
        allowed = TOLERANCE_EXACT * abs(self.asked)
        if self.standard_error is not None:
            allowed = TOLERANCE_ERRORS * self.standard_error
        return "as asked" if abs(self.drawn - self.asked) <= allowed else "off"

    def in_units_of(self, picture: Picture) -> Finding:
        """The same figure with an amplitude given in the picture's own unit."""
        if self.unit != "fs":
            return self

        def scaled(value: float | None) -> float | None:
            return None if value is None else value * picture.full_scale

        return Finding(
            self.quantity,
            picture.amplitude_unit,
            scaled(self.asked),
            scaled(self.drawn),
            scaled(self.stored),
            scaled(self.standard_error),
        )


def rms(difference: Pixels) -> float:
    """Root of the mean square of an array of any shape, summed in float64."""
    flat = difference.ravel()
    return float(np.sqrt(np.vdot(flat, flat.astype(np.float64)) / flat.size))
