"""The kinds of parameter: how a value is written, checked, spelled and handed on.

A kind reads the text after `key=`, keeps the value exactly (decimal fractions stay what
was written), spells it in one canonical way, and turns it into the argument that a method
function receives. Only amplitudes need the picture for that last step: `12dn` is 12/255 of
full scale in a picture of 8 bits and 12/65535 in one of 16.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

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


def read_quantity(text: str) -> Quantity:
    """Split `12dn` into its number and its unit; raises `ValueError` if there is no number."""
    match = _NUMBER.fullmatch(text)
    if match is None:
        raise ValueError(f"{text!r} is not a number")
    return Quantity(Decimal(match[1]), match[2])


class Kind(ABC):
    """One kind of parameter. `parse` raises `ValueError` with the reason and the remedy."""

    #: What can be written, in a few words, for help, catalogue and docs.
    @abstractmethod
    def describe(self) -> str: ...

    @abstractmethod
    def parse(self, text: str) -> Any: ...

    @abstractmethod
    def spell(self, value: Any) -> str: ...

    def resolve(self, value: Any, full_scale: float | None) -> Any:
        """Turn a parsed value into the method's argument.

        `full_scale` is the picture's largest digital number, or None for a float picture.
        """
        return value

    def example(self) -> str:
        """A value that would be accepted, for messages."""
        return "1"


def _check_bounds(value: Decimal, low: float | None, high: float | None, unit: str = "") -> None:
    too_low = low is not None and value < Decimal(str(low))
    too_high = high is not None and value > Decimal(str(high))
    if too_low or too_high:
        raise ValueError(f"{plain(value)}{unit} is outside {_bounds(low, high, unit)}")


def _bounds(low: float | None, high: float | None, unit: str = "") -> str:
    if low is None and high is None:
        return "any number"
    if high is None:
        return f"at least {low:g}{unit}"
    if low is None:
        return f"at most {high:g}{unit}"
    return f"{low:g}{unit} to {high:g}{unit}"


@dataclass(frozen=True)
class Amplitude(Kind):
    """A difference of sample values; always with a unit, handed on as a share of full scale."""

    low: float = 0.0
    high: float = 1.0

    def describe(self) -> str:
        return f"amplitude in dn, % or fs; {_bounds(100 * self.low, 100 * self.high, '%')}"

    def parse(self, text: str) -> Quantity:
        quantity = read_quantity(text)
        if quantity.unit == "":
            number = plain(quantity.number)
            raise ValueError(
                f"{number} has no unit: write {number}dn (digital numbers of the picture's "
                f"bit depth), {number}% or {number}fs (of full scale)"
            )
        if quantity.unit not in ("dn", "%", "fs"):
            raise ValueError(f"unknown unit {quantity.unit!r} for an amplitude: use dn, % or fs")
        if quantity.unit == "fs":
            quantity = Quantity(quantity.number * 100, "%")
        if quantity.unit == "%":
            _check_bounds(quantity.number, 100 * self.low, 100 * self.high, "%")
        elif self.low >= 0 and quantity.number < 0:
            raise ValueError(f"{quantity} is below 0dn")
        return quantity

    def spell(self, value: Quantity | float) -> str:
        if isinstance(value, Quantity):
            return str(value)
        return str(Quantity(Decimal(str(value)) * 100, "%"))

    def resolve(self, value: Quantity, full_scale: float | None) -> float:
        if value.unit == "%":
            return float(value.number / 100)
        if full_scale is None:
            raise ValueError(
                f"{value} needs a bit depth, and a float picture has none: use % or fs"
            )
        share = float(value.number) / full_scale
        if not self.low <= share <= self.high:
            low, high = self.low * full_scale, self.high * full_scale
            raise ValueError(f"{value} is outside {_bounds(low, high, 'dn')} of this picture")
        return share

    def example(self) -> str:
        return "8dn"


@dataclass(frozen=True)
class Length(Kind):
    """A length in pixels; the unit may be left out."""

    low: float
    high: float

    def describe(self) -> str:
        return f"length in px; {_bounds(self.low, self.high, 'px')}"

    def parse(self, text: str) -> Quantity:
        quantity = read_quantity(text)
        if quantity.unit not in ("", "px"):
            raise ValueError(f"unknown unit {quantity.unit!r} for a length: use px, or none")
        _check_bounds(quantity.number, self.low, self.high, "px")
        return Quantity(quantity.number, "px")

    def spell(self, value: Quantity | float) -> str:
        return str(value if isinstance(value, Quantity) else Quantity(Decimal(str(value)), "px"))

    def resolve(self, value: Quantity, full_scale: float | None) -> float:
        return float(value.number)


@dataclass(frozen=True)
class Share(Kind):
    """A share of a whole, as a fraction or with a % sign."""

    def describe(self) -> str:
        return "share; 0 to 1, or 0% to 100%"

    def parse(self, text: str) -> Decimal:
        quantity = read_quantity(text)
        if quantity.unit not in ("", "%"):
            raise ValueError(f"unknown unit {quantity.unit!r} for a share: use % or none")
        share = quantity.number / 100 if quantity.unit == "%" else quantity.number
        if not 0 <= share <= 1:
            raise ValueError(f"{quantity} is outside 0 to 1 (0% to 100%)")
        return share

    def spell(self, value: Decimal | float) -> str:
        return plain(Decimal(str(value)))

    def resolve(self, value: Decimal, full_scale: float | None) -> float:
        return float(value)

    def example(self) -> str:
        return "5%"


@dataclass(frozen=True)
class Number(Kind):
    """A plain number without a unit."""

    low: float | None = None
    high: float | None = None

    def describe(self) -> str:
        return f"number; {_bounds(self.low, self.high)}"

    def parse(self, text: str) -> Decimal:
        quantity = read_quantity(text)
        if quantity.unit:
            raise ValueError(f"{text!r} is not a plain number: it takes no unit")
        _check_bounds(quantity.number, self.low, self.high)
        return quantity.number

    def spell(self, value: Decimal | float) -> str:
        return plain(Decimal(str(value)))

    def resolve(self, value: Decimal, full_scale: float | None) -> float:
        return float(value)


@dataclass(frozen=True)
class Count(Kind):
    """A whole number; `odd` for window sizes that have a centre."""

    low: int
    high: int
    odd: bool = False

    def describe(self) -> str:
        return f"{'odd' if self.odd else 'whole'} number; {self.low} to {self.high}"

    def parse(self, text: str) -> int:
        if not re.fullmatch(r"[-+]?\d{1,9}", text, re.ASCII):
            raise ValueError(f"{text!r} is not a whole number")
        value = int(text)
        _check_bounds(Decimal(value), self.low, self.high)
        if self.odd and value % 2 == 0:
            raise ValueError(f"{value} is even: use an odd size, {value - 1} or {value + 1}")
        return value

    def spell(self, value: int) -> str:
        return str(value)

    def example(self) -> str:
        return str(self.low)


@dataclass(frozen=True)
class BlockSize(Kind):
    """Height and width of a block: `8` for 8x8, `2x8` for 2 rows of 8 samples."""

    high: int = 4096

    def describe(self) -> str:
        return f"N or HEIGHTxWIDTH; 1 to {self.high} each"

    def parse(self, text: str) -> tuple[int, int]:
        match = re.fullmatch(r"(\d{1,6})(?:x(\d{1,6}))?", text, re.ASCII)
        if match is None:
            raise ValueError(f"{text!r} is not a block size: write 8, or 2x8 for height x width")
        size = int(match[1]), int(match[2] or match[1])
        for side in size:
            _check_bounds(Decimal(side), 1, self.high)
        return size

    def spell(self, value: tuple[int, int]) -> str:
        height, width = value
        return str(height) if height == width else f"{height}x{width}"

    def example(self) -> str:
        return "8"


@dataclass(frozen=True)
class Choice(Kind):
    """One of a few words."""

    words: tuple[str, ...]

    def describe(self) -> str:
        return " | ".join(self.words)

    def parse(self, text: str) -> str:
        if text not in self.words:
            raise ValueError(f"{text!r} is none of {', '.join(self.words)}")
        return text

    def spell(self, value: str) -> str:
        return value

    def example(self) -> str:
        return self.words[0]
