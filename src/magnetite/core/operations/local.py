"""Steps that can be carried out in bands of rows: which ones, and how high the bands are.

A step is local where it looks only a known number of rows around a sample and needs no figure of
the whole picture. Bands of a chain of such steps give the whole picture's samples.
"""

from __future__ import annotations

from collections.abc import Sequence

from magnetite.core.chain.bind import Bound
from magnetite.core.compute.random import rows_of_chunk
from magnetite.core.errors import InputError
from magnetite.core.methods.declarations import Degradation
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.rows import Allowance

#: End of messages on operations that need the whole picture.
REMEDY = "allow more memory (--memory), or take a part of the picture (magnetite convert)"
#: Bytes for each sample of two bands that are read, besides the steps' own.
_READ = 8.0


def obstacle_of(step: Bound) -> InputError | None:
    """Why a step cannot be carried out in bands; None where it can."""
    if step.method.kind == "codec" or step.reach is None or step.needs_statistics:
        return InputError(f"{step.step}: needs the whole picture; {REMEDY}")
    return None


def reach_of(steps: Sequence[Bound]) -> int:
    """Rows around a band that all steps together look at; even, so that mosaics stay in phase."""
    reach = sum(_rows_around(step) for step in steps)
    return reach + reach % 2


def _rows_around(step: Bound) -> int:
    """Rows that a step looks at, and those whose samples its random numbers depend on."""
    method = step.method
    by_chunk = isinstance(method, Degradation) and method.draws_by == "chunk"
    return (step.reach or 0) + (rows_of_chunk(step.frame.width) if by_chunk else 0)


def height_for(
    steps: Sequence[Bound], frame: Frame, allowance: Allowance, obstacle: InputError | None
) -> int:
    """Rows of a band for a chain; see `Allowance.height`."""
    cost = max(step.memory for step in steps) + _READ
    return allowance.height(frame, cost, reach_of(steps), obstacle)


def whole_note(obstacle: InputError | None, height: int, frame: Frame, allowance: Allowance) -> str:
    """Remark on an operation that takes more memory than is allowed, or nothing."""
    if obstacle is None or height < frame.height or allowance.fits(frame):
        return ""
    return f"{str(obstacle).partition(';')[0]}, which takes more memory than is allowed"
