"""Sums of sample errors, shared by all error metrics of a pair."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.compute.bands import bands
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.compute.sharing import shared
from magnetite.core.compute.threads import spread

#: Samples of a piece of work.
_PIECE = 2**18


class ErrorSums(NamedTuple):
    """Sums over all samples of a pair, in the arrays' unit; exact for whole numbers."""

    squares: float
    absolute: float
    largest: float
    #: Of the squares of the reference.
    power: float
    number: int

    @property
    def rms(self) -> float:
        """Root of the mean squared error."""
        return math.sqrt(self.squares / self.number)


def error_sums(reference: Samples, test: Samples) -> ErrorSums:
    """The sums of a pair of arrays of one shape; float arrays are summed in float64."""
    return shared(_sums, reference, test)


def _sums(reference: Samples, test: Samples) -> ErrorSums:
    size = reference.size
    if reference.dtype != test.dtype or reference.dtype.kind == "f":
        return _as_sums(_float_sums(reference, test), size)
    if size < WORTH_COMPILING:
        x, y = reference.astype(np.int64), test.astype(np.int64)
        d = np.abs(x - y)
        return _as_sums((np.vdot(d, d), d.sum(), d.max(), np.vdot(x, x)), size)
    from magnetite.core.metrics.kernels.error_sums import whole_sums

    return _as_sums(whole_sums(reference, test), size)


def _as_sums(sums: Sequence[Any], number: int) -> ErrorSums:
    squares, absolute, largest, power = map(float, sums)
    return ErrorSums(squares, absolute, largest, power, number)


def _float_sums(reference: Samples, test: Samples) -> tuple[float, float, float, float]:
    x, y = reference.reshape(-1), test.reshape(-1)

    def work(part: slice) -> tuple[float, float, float, float]:
        one = np.asarray(x[part], np.float64)
        d = np.abs(one - y[part])
        return float(np.vdot(d, d)), float(d.sum()), float(d.max()), float(np.vdot(one, one))

    squares, absolute, largest, power = zip(*spread(work, bands(x.size, _PIECE)), strict=True)
    return sum(squares), sum(absolute), max(largest), sum(power)
