"""Lists and ranges of values: `2dn,6dn`, `1..41/4`."""

from __future__ import annotations

from decimal import Decimal

from magnetite.core.quantities import Quantity, read_quantity

#: A range may not expand into more values than this.
MAX_SWEEP = 1000


def expand_sweep(text: str) -> list[str]:
    """Values of a list `2dn,6dn`, a range `1..41/4`, or a single value.

    A range may carry its unit on any of its numbers: `2..20dn/6` is 2dn, 8dn, 14dn, 20dn.
    Raises `ValueError` where it makes no sense.
    """
    values = []
    for part in text.split(","):
        if not part:
            raise ValueError("a value of the list is empty")
        values.extend(_expand_range(part) if ".." in part else [part])
    return values


def _expand_range(text: str) -> list[str]:
    first_text, _, rest = text.partition("..")
    last_text, slash, increment_text = rest.partition("/")
    first, last = read_quantity(first_text), read_quantity(last_text)
    increment = read_quantity(increment_text) if slash else Quantity(Decimal(1))
    units = {q.unit for q in (first, last, increment)} - {""}
    if len(units) > 1:
        raise ValueError(f"the range {text!r} mixes the units {' and '.join(sorted(units))}")
    if increment.number <= 0 or last.number < first.number:
        raise ValueError(f"the range {text!r} must rise, as in 1..41/4 (first..last/increment)")
    count = int((last.number - first.number) / increment.number) + 1
    if count > MAX_SWEEP:
        raise ValueError(f"the range {text!r} has {count} values; at most {MAX_SWEEP} are allowed")
    unit = units.pop() if units else ""
    return [str(Quantity(first.number + i * increment.number, unit)) for i in range(count)]
