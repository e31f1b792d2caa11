"""Numbers as they are written, with their units, kept exactly."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

_NUMBER = re.compile(r"([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d{1,3})?)(.*)", re.ASCII)


@dataclass(frozen=True)
class Quantity:
    """A number with the unit it was written in; the unit may be empty."""

    number: Decimal
    unit: str = ""

    def __str__(self) -> str:
        return f"{plain(self.number)}{self.unit}"


def plain(number: Decimal) -> str:
    """Shortest plain spelling: `12`, `0.5`, `1.6`; no exponent unless it is shorter."""
    number = number.normalize()
    text = f"{number:f}"
    return text if len(text) <= 20 else str(number)


def nearby(number: float) -> Decimal:
    """The number to six significant digits, as a solver may set it."""
    return Decimal(f"{number:.6g}")


def read_quantity(text: str) -> Quantity:
    """Split `12dn` into its number and its unit; raises `ValueError` if the number is missing."""
    match = _NUMBER.fullmatch(text)
    if match is None:
        raise ValueError(f"{text!r} is not a number")
    return Quantity(Decimal(match[1]), match[2])


def read_number(text: str) -> float:
    """A plain number in ASCII digits, finite; raises `ValueError` for anything else."""
    quantity = read_quantity(text)
    number = float(quantity.number)
    if quantity.unit or not math.isfinite(number):
        raise ValueError(f"{text!r} is not a number")
    return number


def read_whole(text: str) -> int:
    """A whole number in ASCII digits; raises `ValueError` for anything else."""
    if not re.fullmatch(r"[-+]?\d{1,9}", text, re.ASCII):
        raise ValueError(f"{text!r} is not a whole number")
    return int(text)


def figure(value: float | int | None) -> str:
    """A figure to four significant digits: `30.12`, `0.9431`, `∞`; a dash for None."""
    if value is None:
        return "–"
    if isinstance(value, int):
        return str(value)
    if math.isinf(value):
        return "∞" if value > 0 else "−∞"
    if value == 0 or 1e-4 <= abs(value) < 1e4:
        digits = 3 if value == 0 else max(0, 3 - math.floor(math.log10(abs(value))))
        text = f"{value:.{digits}f}"
        return "0" if value == 0 else text
    return f"{value:.0f}" if 1e4 <= abs(value) < _LARGE else f"{value:.3e}"


def significant(value: float, digits: int = 3) -> str:
    """A number to some significant digits: `0.25`, `5010`; no power of ten from 1 to 1e9."""
    text = f"{value:.{digits}g}"
    return f"{float(text):.0f}" if "e+" in text and abs(value) <= _LARGE else text


#: From this size on a figure is written with its power of ten.
_LARGE = 1e9


def percent(share: float) -> str:
    """A share in percent, to three significant digits: one sample of millions is not 0%."""
    return f"{100 * share:.3g}%"


def counted(count: int, noun: str) -> str:
    """A number and its noun, in the plural unless it is 1."""
    return f"{count} {noun}{'' if count == 1 else 's'}"


def abbreviated(names: Sequence[str]) -> str:
    """The first three names of a list, and the number of the others."""
    more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return f"{', '.join(names[:3])}{more}"


def figures(values: Sequence[float | int | None]) -> list[str]:
    """Figures that are compared with one another: with equal decimal places, as of one column.

    The one in the middle by size has four significant digits, the smallest at least three, none
    has more than six decimal places; whole numbers have none. One that is not 0 is not written as
    0, but as less than the last digit: a chance of 1e-9 is `<0.000001`.
    """
    sizes = sorted(abs(value) for value in values if value and math.isfinite(value))
    middle = sizes[(len(sizes) - 1) // 2] if sizes else 0.0
    plain_ones = all(isinstance(value, int) for value in values if value is not None)
    if plain_ones or not 1e-4 <= middle < 1e7:
        return [figure(value) for value in values]
    wanted = (3 - _decade(middle), 2 - _decade(sizes[0]), 0)
    positions = min(6, max(wanted))
    return [
        figure(value) if value is None or abs(value) >= _LARGE else _placed(value, positions)
        for value in values
    ]


def _placed(value: float, positions: int) -> str:
    """A number with decimal places; a bound where it would be written as 0."""
    least = 10.0**-positions
    if value and abs(value) < least / 2:
        return f"<{least:.{positions}f}" if value > 0 else f">{-least:.{positions}f}"
    return f"{value:.{positions}f}"


def _decade(size: float) -> int:
    return math.floor(math.log10(size))
