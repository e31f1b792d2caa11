"""Model of pictures of single bits: each in the context of ten neighbours, as ITU-T T.82 has it.

Where a plane above is known, its bits at the same position, to the right and below count as well.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Int32, Int64, UInt8
from magnetite.core.codecs.entropy.coder import PAST_END, code_alone, compiled, new_slots

_SLOTS = 2**13


@compiled
def code_bits(c: Int64, data: UInt8, x: Int32, above: Int32, slots: NDArray[np.uint32]) -> None:
    """Code or decode bits, shape (height, width), in place; `above` has the same shape."""
    height, width = x.shape
    rows = np.zeros((3, width + 6), np.int64)
    for i in range(height):
        if c[5] != 0 and c[3] > c[4] + PAST_END:
            return
        here, north, north2 = rows[i % 3], rows[(i + 2) % 3], rows[(i + 1) % 3]
        for p in range(width + 6):
            here[p] = 0
        for j in range(width):
            p = j + 3
            context = here[p - 1] | here[p - 2] << 1 | here[p - 3] << 2
            context |= north[p - 2] << 3 | north[p - 1] << 4 | north[p] << 5 | north[p + 1] << 6
            context |= north2[p - 1] << 7 | north2[p] << 8 | north2[p + 1] << 9
            context |= above[i, j] << 10
            if j + 1 < width:
                context |= above[i, j + 1] << 11
            if i + 1 < height:
                context |= above[i + 1, j] << 12
            # The type of other models' bits: the coder is compiled once.
            here[p] = code_alone(c, data, int(x[i, j] != 0), slots, context)
            x[i, j] = here[p]


def run(coder: Int64, data: UInt8, x: Int32, above: Int32) -> None:
    """Code or decode bits in place, shape (h, w): see `code_bits`."""
    code_bits(coder, data, x, above, new_slots(_SLOTS))
