"""The hot loop of small square medians: the network of comparisons is part of the machine code.

Samples stay in registers, and many windows are worked on at a time.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from numba.core import types
from numba.extending import intrinsic

from magnetite.core.arrays import Samples
from magnetite.core.compute.jit import compiled
from magnetite.core.restore.kernels.order import median_network


@intrinsic
def _middle(typing: Any, plane: Any, at: Any, stride: Any, side: Any) -> Any:
    """Median of the square of a literal side that begins at a position of a flat plane."""
    if not isinstance(side, types.IntegerLiteral):
        return None
    count = side.literal_value**2

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        flat = context.make_array(plane)(context, builder, args[0])
        values = []
        for row in range(side.literal_value):
            for column in range(side.literal_value):
                step = builder.mul(args[2], args[2].type(row))
                position = builder.add(builder.add(args[1], step), args[1].type(column))
                values.append(builder.load(builder.gep(flat.data, [position])))
        smaller = (
            builder.icmp_unsigned
            if isinstance(plane.dtype, types.Integer)
            else builder.fcmp_ordered
        )
        for one, two in median_network(count).astype(int):
            a, b = values[one], values[two]
            in_order = smaller("<", a, b)
            values[one] = builder.select(in_order, a, b)
            values[two] = builder.select(in_order, b, a)
        return values[count // 2]

    return plane.dtype(plane, types.uint64, types.uint64, side), code


def _of_side(side: int) -> Callable[[Samples, Samples], None]:
    @compiled(fastmath={"nnan", "nsz"})
    def medians(padded: Samples, out: Samples) -> None:
        """Medians of all windows of a padded plane; `out` has a row and column for each."""
        flat, stride = padded.reshape(-1), padded.shape[1]
        for y in range(out.shape[0]):
            row = out[y]
            for x in range(row.size):
                row[x] = _middle(flat, y * stride + x, stride, side)  # type: ignore[call-arg]

    return medians


#: Medians of squares by their side.
SQUARES = {side: _of_side(side) for side in (3, 5)}
