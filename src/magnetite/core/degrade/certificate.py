"""Certificates: what a degradation was asked for and what it measurably did."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from magnetite.core.aim import Aim
from magnetite.core.picture import Clipped, Picture, Pixels

#: A measured figure agrees with what was asked within this many standard errors.
TOLERANCE_ERRORS = 4.0
#: A change of the noise's sd by storing that is worth a word.
WORTH_SAYING = 0.01
#: ... or, for a figure that is not random, within this relative difference.
TOLERANCE_EXACT = 0.01


@dataclass(frozen=True)
class Change:
    """One step's work, on full-scale units and the step's own shape.

    `drawn` is the step's result as computed; `stored` is the same after rounding to the
    picture's digital numbers and clipping, as if the chain ended there.
    """

    before: Pixels
    drawn: Pixels
    stored: Pixels
    #: What storing had to clip.
    clipped: Clipped


@dataclass(frozen=True)
class Finding:
    """One figure of a step: asked for, drawn, and left after storing; None is not known.

    A figure in unit "fs" is an amplitude and is shown in the picture's own dn.
    """

    quantity: str
    unit: str
    asked: float | None
    drawn: float | None
    stored: float | None = None
    standard_error: float | None = None

    @property
    def verdict(self) -> str:
        """`as asked`, `off`, or empty where nothing was asked or measured."""
        if self.asked is None or self.drawn is None:
            return ""
        allowed = TOLERANCE_EXACT * abs(self.asked)
        if self.standard_error is not None:
            allowed = TOLERANCE_ERRORS * self.standard_error
        return "as asked" if abs(self.drawn - self.asked) <= allowed else "off"

    def in_units_of(self, picture: Picture) -> Finding:
        """The same figure with an amplitude given in the picture's own unit."""
        if self.unit != "fs":
            return self

        def scaled(value: float | None) -> float | None:
            return None if value is None else value * picture.full_scale

        return Finding(
            self.quantity,
            picture.amplitude_unit,
            scaled(self.asked),
            scaled(self.drawn),
            scaled(self.stored),
            scaled(self.standard_error),
        )


@dataclass(frozen=True)
class StepRecord:
    """What one step did."""

    step: str
    findings: tuple[Finding, ...]
    #: What a user should know or do about it.
    advice: tuple[str, ...] = ()


@dataclass(frozen=True)
class Certificate:
    """What a chain was asked for and what it measurably did to a picture."""

    reference: str
    reference_sha256: str
    picture: str
    chain: str
    seed: int
    steps: tuple[StepRecord, ...]
    #: Of the whole chain, stored picture against reference, in `amplitude_unit`; None where
    #: the chain changed the picture's size.
    rms_difference: float | None
    amplitude_unit: str
    clipped: Clipped
    #: Whether values outside the range were clipped, or kept (float pictures).
    overflow: str
    #: What a setting was solved for, if one was.
    aim: Aim | None = None

    @property
    def verdict(self) -> str:
        """`as asked` if every figure that can be judged is; otherwise how many are `off`."""
        off = sum(f.verdict == "off" for record in self.steps for f in record.findings)
        return f"{off} off" if off else "as asked"

    def as_dict(self) -> dict[str, Any]:
        """The certificate as plain values for JSON."""
        return {
            "certificate": 1,
            "reference": {
                "name": self.reference,
                "sha256": self.reference_sha256,
                "picture": self.picture,
            },
            "chain": self.chain,
            "seed": self.seed,
            "steps": [
                {
                    "step": record.step,
                    "findings": [
                        {
                            "quantity": f.quantity,
                            "unit": f.unit,
                            "asked": f.asked,
                            "drawn": f.drawn,
                            "standard_error": f.standard_error,
                            "stored": f.stored,
                            "verdict": f.verdict,
                        }
                        for f in record.findings
                    ],
                    "advice": list(record.advice),
                }
                for record in self.steps
            ],
            "stored": {
                "rms_difference": self.rms_difference,
                "unit": self.amplitude_unit,
                "overflow": self.overflow,
                "share_below_black": self.clipped.low / self.clipped.total,
                "share_above_full_scale": self.clipped.high / self.clipped.total,
            },
            "aim": None if self.aim is None else asdict(self.aim),
            "verdict": self.verdict,
        }


def storage_findings(change: Change) -> list[Finding]:
    """Shares of the samples that storing would clip, where there are any."""
    total = change.clipped.total
    sides = (("black", change.clipped.low), ("full scale", change.clipped.high))
    return [
        Finding(f"clipped at {side}", "share", None, None, count / total)
        for side, count in sides
        if count
    ]


def storage_advice(findings: list[Finding], clipped: Clipped, bits: int | None) -> tuple[str, ...]:
    """What to do where storing changes the strength of the noise."""
    sd = next((f for f in findings if f.quantity in ("sd", "noise sd", "contrast")), None)
    if sd is None or bits is None or not sd.drawn or sd.stored is None:
        return ()
    change = sd.stored / sd.drawn - 1
    if abs(change) < WORTH_SAYING:
        return ()
    by = f"{abs(change):.1%} {'weaker' if change < 0 else 'stronger'}"
    if clipped.share > 0 and change < 0:
        return (f"clipping leaves the noise {by}: overflow keep gives a float picture without it",)
    return (f"rounding to {bits} bits leaves the noise {by}: use a picture of more bits",)


def rms(difference: Pixels) -> float:
    """Root of the mean square, summed in float64."""
    flat = difference.ravel()
    return float(np.sqrt(np.vdot(flat, flat.astype(np.float64)) / flat.size))


def rms_change(change: Change) -> Finding:
    """Size of a step's change, for methods that certify nothing of their own."""
    if change.drawn.shape != change.before.shape:
        return Finding("rms change", "fs", None, None)
    return Finding(
        "rms change",
        "fs",
        None,
        rms(change.drawn - change.before),
        rms(change.stored - change.before),
    )
