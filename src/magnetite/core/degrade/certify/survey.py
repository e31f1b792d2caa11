"""Certificates band by band: sums over parts of a picture that add up, and findings from them."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from magnetite.core.arrays import Float32, Float64, Pixels
from magnetite.core.degrade.certify.change import Change, Finding

#: Takes rows before and after a step and full scale; gives the sums, and in front of them the
#: numbers of samples clipped at black and at full scale.
InOnePass = Callable[[Float32, Float32, np.float32], Float64]


class Survey(Protocol):
    """Measurements of a step while a picture passes in bands of whole rows."""

    def of(self, part: Change) -> Float64:
        """Sums over a band: those of the picture are the sums of its bands."""
        ...

    @property
    def in_one_pass(self) -> InOnePass | None:
        """The same by a compiled loop that also stores the rows; None where there is none."""
        ...

    def findings(self, sums: Float64) -> list[Finding]:
        """Findings from the sums over the whole picture."""
        ...


@dataclass(frozen=True)
class ChangeSurvey:
    """The size of a step's change, after findings that are known beforehand."""

    known: Sequence[Finding] = ()

    def of(self, part: Change) -> Float64:
        """Squares of the change, as drawn and as stored, and their number."""
        drawn, kept = squares(part.drawn, part.before), squares(part.stored, part.before)
        return np.array([drawn, kept, part.drawn.size])

    def in_one_pass(self, before: Float32, after: Float32, full_scale: np.float32) -> Float64:
        """The same, compiled."""
        from magnetite.core.degrade.kernels.survey_sums import change_sums

        return change_sums(rows(before), rows(after), full_scale)

    def findings(self, sums: Float64) -> list[Finding]:
        """The root mean squares."""
        drawn, kept, count = sums.tolist()
        rms = math.sqrt(drawn / count), math.sqrt(kept / count)
        return [*self.known, Finding("rms change", "fs", None, *rms)]


def squares(one: Pixels, other: Pixels) -> float:
    """Sum of squared differences of two arrays of one shape, in float64."""
    difference = np.subtract(one, other, dtype=np.float64).reshape(-1)
    return float(np.vdot(difference, difference))


def rows(pixels: Pixels) -> Pixels:
    """All samples of a row one after the other, read-only: shape (h, w n)."""
    from magnetite.core.compute.jit import readable

    return readable(pixels.reshape(pixels.shape[0], -1))
