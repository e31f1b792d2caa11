"""The kinds of parameter: how a value is written, checked, spelled and handed on.

A kind reads the text after `key=`, keeps the value exactly (decimal fractions stay as
was written), spells it in one canonical way, and turns it into the argument that a method
function receives. Values in units of the samples are in `amplitudes`.
"""

from __future__ import annotations

import itertools
import re
from abc import ABC, abstractmethod
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, ClassVar, Literal

from magnetite.core.arrays import Pixels
from magnetite.core.methods.context import Context
from magnetite.core.quantities import (
    Quantity,
    nearby,
    plain,
    read_number,
    read_quantity,
    read_whole,
    significant,
)
from magnetite.core.solve.axis import Span


class Kind(ABC):
    """One kind of parameter. `parse` raises `ValueError` with the reason and the remedy."""

    #: Whether the value may be written as a list or range where a sweep is allowed.
    sweeps = True
    #: Whether the value is never written, but follows from the picture.
    implicit = False
    #: Whether it is estimated from the pixels where it is left out.
    estimated = False

    #: Values that can be written, in a few words, for help, catalogue and docs.
    @abstractmethod
    def describe(self) -> str: ...

    def argument(self) -> str:
        """Type, unit and bounds of the method's argument, for docstrings."""
        return self.describe()

    @abstractmethod
    def parse(self, text: str) -> Any: ...

    @abstractmethod
    def spell(self, value: Any) -> str: ...

    def resolve(self, value: Any, context: Context) -> Any:
        """Turn a parsed value into the method's argument."""
        return value

    def span(self) -> Span | None:
        """Bounds for solving for this setting; None where that makes no sense."""
        return None

    def at(self, number: float) -> Any:
        """The value, as `parse` would give it, at a number within the span."""
        raise NotImplementedError

    def example(self) -> str:
        """A value that would be accepted, for messages."""
        return "1"

    def estimate(self, pixels: Pixels) -> Any:
        """The argument, from the pixels of all channels, where the kind is estimated."""
        raise NotImplementedError


def check_bounds(value: Decimal, low: float | None, high: float | None, unit: str = "") -> None:
    too_low = low is not None and value < Decimal(str(low))
    too_high = high is not None and value > Decimal(str(high))
    if too_low or too_high:
        raise ValueError(f"{plain(value)}{unit} is outside {bounds(low, high, unit)}")


def bounds(low: float | None, high: float | None, unit: str = "") -> str:
    if low is None:
        return "any number" if high is None else f"at most {significant(high, 6)}{unit}"
    if high is None:
        return f"at least {significant(low, 6)}{unit}"
    return f"{significant(low, 6)}{unit} to {significant(high, 6)}{unit}"


@dataclass(frozen=True)
class Measure(Kind):
    """A number whose unit is clear, so that it may be left out."""

    low: float
    high: float
    unit: ClassVar[str]
    noun: ClassVar[str]

    def describe(self) -> str:
        return f"{self.noun} in {self.unit}; {bounds(self.low, self.high, self.unit)}"

    def parse(self, text: str) -> Quantity:
        quantity = read_quantity(text)
        if quantity.unit not in ("", self.unit):
            raise ValueError(
                f"unknown unit {quantity.unit!r} for the {self.noun}: use {self.unit}, or none"
            )
        check_bounds(quantity.number, self.low, self.high, self.unit)
        return Quantity(quantity.number, self.unit)

    def spell(self, value: Quantity | float) -> str:
        if isinstance(value, Quantity):
            return str(value)
        return str(Quantity(Decimal(str(value)), self.unit))

    def resolve(self, value: Quantity, context: Context) -> float:
        return float(value.number)

    def span(self) -> Span | None:
        return Span(self.low, self.high)

    def at(self, number: float) -> Quantity:
        return Quantity(nearby(number), self.unit)

    def example(self) -> str:
        return f"{min(max(self.low, 2), self.high):g}{self.unit}"


class Length(Measure):
    """A length in pixels."""

    unit = "px"
    noun = "length"


class Angle(Measure):
    """An angle in degrees, counter-clockwise from the x axis."""

    unit = "deg"
    noun = "angle"

    def __init__(self) -> None:
        super().__init__(-360, 360)

    def span(self) -> None:
        return None

    def example(self) -> str:
        return "30deg"


class Decibels(Measure):
    """A ratio in dB."""

    unit = "dB"
    noun = "ratio"

    def example(self) -> str:
        return "30dB"


@dataclass(frozen=True)
class Share(Kind):
    """A share of a whole, as a fraction or with a % sign."""

    def describe(self) -> str:
        return "share; 0 to 1, or 0% to 100%"

    def argument(self) -> str:
        return "float, 0 to 1"

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

    def resolve(self, value: Decimal, context: Context) -> float:
        return float(value)

    def span(self) -> Span:
        return Span(0, 1)

    def at(self, number: float) -> Decimal:
        return nearby(number)

    def example(self) -> str:
        return "5%"


@dataclass(frozen=True)
class Number(Kind):
    """A plain number without a unit."""

    low: float | None = None
    high: float | None = None

    def describe(self) -> str:
        return f"number; {bounds(self.low, self.high)}"

    def parse(self, text: str) -> Decimal:
        quantity = read_quantity(text)
        if quantity.unit:
            raise ValueError(f"{text!r} is not a plain number: it takes no unit")
        check_bounds(quantity.number, self.low, self.high)
        return quantity.number

    def spell(self, value: Decimal | float) -> str:
        return plain(Decimal(str(value)))

    def resolve(self, value: Decimal, context: Context) -> float:
        return float(value)

    def span(self) -> Span | None:
        return None if self.low is None or self.high is None else Span(self.low, self.high)

    def at(self, number: float) -> Decimal:
        return nearby(number)

    def example(self) -> str:
        return "1" if self.low is None or self.low <= 1 else f"{self.low:g}"


@dataclass(frozen=True)
class Count(Kind):
    """A whole number; `odd` for window sizes that have a centre."""

    low: int
    high: int
    odd: bool = False

    def describe(self) -> str:
        return f"{'odd' if self.odd else 'whole'} number; {self.low} to {self.high}"

    def parse(self, text: str) -> int:
        value = read_whole(text)
        check_bounds(Decimal(value), self.low, self.high)
        if self.odd and value % 2 == 0:
            raise ValueError(f"{value} is even: use an odd size, {value - 1} or {value + 1}")
        return value

    def spell(self, value: int) -> str:
        return str(value)

    def span(self) -> Span:
        return Span(self.low, self.high)

    def at(self, number: float) -> int:
        value = round(number)
        return min(value | 1, self.high) if self.odd else value

    def example(self) -> str:
        return str(self.low)


@dataclass(frozen=True)
class Matrix(Kind):
    """A square of plain numbers: rows separated by `/`, numbers by commas."""

    side: int
    sweeps = False

    def describe(self) -> str:
        return f"{self.side}x{self.side} numbers, as in {self.example()}"

    def argument(self) -> str:
        return f"array, shape ({self.side}, {self.side})"

    def parse(self, text: str) -> tuple[tuple[float, ...], ...]:
        rows = tuple(tuple(map(read_number, row.split(","))) for row in text.split("/"))
        if len(rows) != self.side or any(len(row) != self.side for row in rows):
            raise ValueError(f"{text!r} is not {self.describe()}")
        for value in itertools.chain(*rows):
            check_bounds(Decimal(str(value)), -100, 100)
        return rows

    def spell(self, value: tuple[tuple[float, ...], ...]) -> str:
        return "/".join(",".join(f"{number:.12g}" for number in row) for row in value)

    def example(self) -> str:
        sides = range(self.side)
        return self.spell(tuple(tuple(float(i == j) for j in sides) for i in sides))


@dataclass(frozen=True)
class FileName(Kind):
    """A file whose content becomes the argument, read by the `Files` of the context.

    It holds an array (a picture, NPY, text), or a JSON object.
    """

    sample: str
    holds: Literal["array", "record"] = "array"
    sweeps = False

    def describe(self) -> str:
        return "file name without blanks"

    def argument(self) -> str:
        return "two-dimensional array" if self.holds == "array" else "dict"

    def parse(self, text: str) -> str:
        return text

    def spell(self, value: str) -> str:
        return value

    def example(self) -> str:
        return self.sample

    def resolve(self, value: str, context: Context) -> Any:
        files = context.files
        return files.array(value) if self.holds == "array" else files.record(value)


@dataclass(frozen=True)
class BlockSize(Kind):
    """Sides of a block: `8` for 8x8, `2x8` for 2 rows of 8 samples, `8x8x4` for 4 planes of it."""

    high: int = 4096
    #: Most sides that may be given.
    axes: int = 2
    #: Fewest sides that may be given; a single number stands for two equal ones.
    least: int = 2

    def describe(self) -> str:
        more = "" if self.axes == 2 else "[xPLANES]…"
        form = f"N or HEIGHTxWIDTH{more}" if self.least == 2 else "N or NxN"
        return f"{form}; 1 to {self.high} each"

    def argument(self) -> str:
        return f"tuple of {self.least} to {self.axes} int, 1 to {self.high}"

    def parse(self, text: str) -> tuple[int, ...]:
        words = text.split("x")
        if not all(re.fullmatch(r"\d{1,6}", word, re.ASCII) for word in words):
            raise ValueError(f"{text!r} is not a block size: write 8, or 2x8 for height x width")
        sides = tuple(map(int, words))
        if len(sides) == 1 and self.least == 2:
            sides *= 2
        if len(sides) > self.axes:
            raise ValueError(f"{text!r} has {len(sides)} sides; at most {self.axes} are taken here")
        for side in sides:
            check_bounds(Decimal(side), 1, self.high)
        return sides

    def spell(self, value: tuple[int, ...]) -> str:
        if self.least == 2 and len(value) == 2 and value[0] == value[1]:
            return str(value[0])
        return "x".join(map(str, value))

    def example(self) -> str:
        return "8" if self.least == 2 else "12"


@dataclass(frozen=True)
class Choice(Kind):
    """One of a few words."""

    words: tuple[str, ...]

    def describe(self) -> str:
        return " | ".join(self.words)

    def argument(self) -> str:
        return " or ".join(map(repr, self.words))

    def parse(self, text: str) -> str:
        if text not in self.words:
            raise ValueError(f"{text!r} is none of {', '.join(self.words)}")
        return text

    def spell(self, value: str) -> str:
        return value

    def example(self) -> str:
        return self.words[0]
