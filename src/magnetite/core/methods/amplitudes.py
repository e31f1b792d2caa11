"""Parameters in units of the sample values: they need the picture's bit depth, or say it.

`12dn` is 12/255 of full scale in a picture of 8 bits and 12/65535 in one of 16. A bare number
is refused: it could mean any of these.
"""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from magnetite.core.methods.context import Context
from magnetite.core.methods.parameters import Kind, bounds, check_bounds
from magnetite.core.quantities import Quantity, nearby, plain, read_quantity
from magnetite.core.solve.axis import Span


@dataclass(frozen=True)
class Amplitude(Kind):
    """A difference of sample values; always with a unit, handed on as a share of full scale."""

    low: float = 0.0
    high: float = 1.0

    def describe(self) -> str:
        return f"amplitude in dn, % or fs; {bounds(100 * self.low, 100 * self.high, '%')}"

    def argument(self) -> str:
        return f"float, share of full scale, {bounds(self.low, self.high)}"

    def parse(self, text: str) -> Quantity:
        quantity = read_quantity(text)
        if quantity.unit == "":
            raise ValueError(_no_unit(quantity, "dn", "%", "fs"))
        if quantity.unit not in ("dn", "%", "fs"):
            raise ValueError(f"unknown unit {quantity.unit!r} for an amplitude: use dn, % or fs")
        if quantity.unit == "fs":
            quantity = Quantity(quantity.number * 100, "%")
        if quantity.unit == "%":
            check_bounds(quantity.number, 100 * self.low, 100 * self.high, "%")
        elif self.low >= 0 and quantity.number < 0:
            raise ValueError(f"{quantity} is below 0dn")
        return quantity

    def spell(self, value: Quantity | float) -> str:
        if isinstance(value, Quantity):
            return str(value)
        return str(Quantity(Decimal(str(value)) * 100, "%"))

    def resolve(self, value: Quantity, context: Context) -> float:
        if value.unit == "%":
            return float(value.number / 100)
        scale = _digital_scale(value, context)
        share = float(value.number) / scale
        if not self.low <= share <= self.high:
            within = bounds(self.low * scale, self.high * scale, "dn")
            raise ValueError(f"{value} is outside {within} of this picture")
        return share

    def span(self) -> Span:
        return Span(100 * self.low, 100 * self.high)

    def at(self, number: float) -> Quantity:
        return Quantity(nearby(number), "%")

    def example(self) -> str:
        return "8dn"


@dataclass(frozen=True)
class Variance(Kind):
    """A mean square of sample values, as `64dn2` or `0.001fs2`; handed on as full scale²."""

    def describe(self) -> str:
        return "variance in dn2 or fs2; 0fs2 to 1fs2"

    def argument(self) -> str:
        return "float, full scale squared, 0 to 1"

    def parse(self, text: str) -> Quantity:
        quantity = read_quantity(text)
        if quantity.unit == "":
            raise ValueError(_no_unit(quantity, "dn2", "fs2"))
        if quantity.unit not in ("dn2", "fs2"):
            raise ValueError(f"unknown unit {quantity.unit!r} for a variance: use dn2 or fs2")
        check_bounds(quantity.number, 0, 1 if quantity.unit == "fs2" else None, quantity.unit)
        return quantity

    def spell(self, value: Quantity) -> str:
        return str(value)

    def resolve(self, value: Quantity, context: Context) -> float:
        if value.unit == "fs2":
            return float(value.number)
        scale = _digital_scale(value, context)
        share = float(value.number) / scale**2
        if share > 1:
            raise ValueError(f"{value} is above {scale**2:g}dn2, full scale squared")
        return share

    def span(self) -> Span:
        return Span(0, 1)

    def at(self, number: float) -> Quantity:
        return Quantity(nearby(number), "fs2")

    def example(self) -> str:
        return "64dn2"


@dataclass(frozen=True)
class Electrons(Kind):
    """A charge in electrons; or, where `per` names the full well, in dn or % of full scale.

    Handed on in electrons.
    """

    low: float
    high: float
    per: str | None = None

    def describe(self) -> str:
        units = "electrons: e" if self.per is None else f"electrons: e; or dn, % of {self.per}"
        return f"{units}; {bounds(self.low, self.high, 'e')}"

    def argument(self) -> str:
        return f"float, electrons, {bounds(self.low, self.high)}"

    def parse(self, text: str) -> Quantity:
        quantity = read_quantity(text)
        known = ("e",) if self.per is None else ("e", "dn", "%")
        if quantity.unit == "":
            raise ValueError(_no_unit(quantity, *known))
        if quantity.unit not in known:
            raise ValueError(
                f"unknown unit {quantity.unit!r} for a charge: use {' or '.join(known)}"
            )
        if quantity.unit == "e":
            check_bounds(quantity.number, self.low, self.high, "e")
        elif quantity.number < 0:
            raise ValueError(f"{quantity} is below 0{quantity.unit}")
        return quantity

    def spell(self, value: Quantity | float) -> str:
        return str(value if isinstance(value, Quantity) else Quantity(Decimal(str(value)), "e"))

    def resolve(self, value: Quantity, context: Context) -> float:
        if value.unit == "e" or self.per is None:
            return float(value.number)
        share = 0.01 if value.unit == "%" else 1 / _digital_scale(value, context)
        electrons = float(value.number) * share * float(context.settings[self.per].number)
        check_bounds(Decimal(str(electrons)), self.low, self.high, "e")
        return electrons

    def span(self) -> Span:
        return Span(self.low, self.high)

    def at(self, number: float) -> Quantity:
        return Quantity(nearby(number), "e")

    def example(self) -> str:
        return f"{max(self.low, min(self.high, 10_000)):g}e"


class FromPicture(Kind):
    """A property of the picture: handed on to a method, never written."""

    implicit = True

    def parse(self, text: str) -> None:
        raise ValueError(f"{self.describe()} follows from the picture and cannot be set")

    def spell(self, value: None) -> str:
        return ""


@dataclass(frozen=True)
class BitDepth(FromPicture):
    """Bits of one of the picture's samples."""

    def describe(self) -> str:
        return "the picture's bit depth"

    def resolve(self, value: None, context: Context) -> int:
        if context.full_scale is None:
            raise ValueError("a float picture has no bit planes: use one of 1 to 16 bits")
        return int(context.full_scale).bit_length()


@dataclass(frozen=True)
class SampleStep(FromPicture):
    """Distance of two digital numbers of the picture, of full scale; None for float pictures."""

    def describe(self) -> str:
        return "the distance of two of the picture's digital numbers"

    def resolve(self, value: None, context: Context) -> float | None:
        return None if context.full_scale is None else 1 / context.full_scale


def _no_unit(quantity: Quantity, *units: str) -> str:
    number = plain(quantity.number)
    # Of full scale a number above 1 would be refused in its turn: the share that it is in percent.
    shares = {"fs": 100, "fs2": 10_000} if abs(float(quantity.number)) > 1 else {}
    meanings = {
        "dn": " (digital numbers of the picture's bit depth)",
        "dn2": " (digital numbers squared)",
        "fs": " (of full scale)",
        "fs2": " (full scale squared)",
        "e": " (electrons)",
    }
    *most, last = [
        f"{number if unit not in shares else f'{float(quantity.number) / shares[unit]:.4g}'}"
        f"{unit}{meanings.get(unit, '')}"
        for unit in units
    ]
    listed = f"{', '.join(most)} or {last}" if most else last
    return f"{number} has no unit: write {listed}"


def _digital_scale(value: Quantity, context: Context) -> float:
    if context.full_scale is None:
        raise ValueError(f"{value} needs a bit depth, and a float picture has none: use % or fs")
    return context.full_scale
