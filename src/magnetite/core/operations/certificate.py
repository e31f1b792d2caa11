"""Certificates: the figures that a degradation was asked for, and those measured."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, NamedTuple

from magnetite.core.degrade.certify.change import Finding
from magnetite.core.degrade.certify.through import FOLLOWED
from magnetite.core.operations.aim import Aim
from magnetite.core.picture import Clipped
from magnetite.core.picture.frame import Light
from magnetite.core.quantities import Quantity, nearby
from magnetite.core.table import Tabular

#: A change of the noise's sd by storing that is worth a word.
WORTH_SAYING = 0.01


class FindingRow(NamedTuple):
    """One finding of a step, for tables."""

    step: str
    figure: str
    unit: str
    asked: float | None
    drawn: float | None
    standard_error: float | None
    stored: float | None
    verdict: str


@dataclass(frozen=True)
class StepRecord:
    """Record of one step."""

    step: str
    findings: tuple[Finding, ...]
    #: Advice to the user.
    advice: tuple[str, ...] = ()
    #: Of the method.
    version: int = 1
    #: Whether it draws random numbers.
    draws: bool = False


@dataclass(frozen=True, repr=False)
class Certificate(Tabular):
    """The figures that a chain was asked for, and those measured on a picture."""

    reference: str
    reference_sha256: str
    picture: str
    #: Of the degraded picture: identifies the samples that the certificate belongs to.
    result_sha256: str
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
    #: Target of the solved setting, if any.
    aim: Aim | None = None

    @property
    def verdict(self) -> str:
        """`as asked` if every figure that can be judged is; otherwise how many are `off`."""
        off = sum(f.verdict == "off" for record in self.steps for f in record.findings)
        return f"{off} off" if off else "as asked"

    @property
    def noise_sd(self) -> Quantity | None:
        """The sd of the noise in the result; None where none is stated.

        That is the sd that the last step has drawn, if no other draws, or the sd of the noise of
        all steps where it is followed to the end.
        """
        last = self.steps[-1]
        alone = [record for record in self.steps if record.draws] == [last]
        for finding in last.findings:
            stated = finding.quantity == FOLLOWED or (alone and finding.quantity == "sd")
            if stated and finding.unit in ("dn", "fs") and finding.drawn:
                return Quantity(nearby(finding.drawn), finding.unit)
        return None

    @property
    def rate(self) -> float | None:
        """Rate of the last codec, bpp; None where no step is one."""
        for record in reversed(self.steps):
            for finding in record.findings:
                if finding.unit == "bpp":
                    return finding.drawn
        return None

    def rows(self) -> list[FindingRow]:
        """A row for each finding."""
        return [
            FindingRow(
                record.step, f.quantity, f.unit, f.asked, f.drawn, f.standard_error, f.stored,
                f.verdict,
            )
            for record in self.steps
            for f in record.findings
        ]  # fmt: skip

    def as_dict(self) -> dict[str, Any]:
        """The certificate as plain values for JSON."""
        return {
            "certificate": 1,
            "reference": {
                "name": self.reference,
                "sha256": self.reference_sha256,
                "picture": self.picture,
            },
            "result": {"sha256": self.result_sha256},
            "chain": self.chain,
            "seed": self.seed,
            "steps": [
                {
                    "step": record.step,
                    "version": record.version,
                    "findings": [
                        {
                            "quantity": f.quantity,
                            "unit": f.unit,
                            "asked": f.asked,
                            "drawn": f.drawn,
                            "standard_error": f.standard_error,
                            "stored": f.stored,
                            "verdict": f.verdict,
                            **({"distribution": f.distribution} if f.distribution else {}),
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


def storage_findings(clipped: Clipped, *, kept: bool) -> list[Finding]:
    """Shares of the samples that are clipped, or kept beyond the ends, where there are any."""
    total = clipped.total
    sides = (("black", clipped.low), ("full scale", clipped.high))
    return [
        Finding(f"{'beyond' if kept else 'clipped at'} {side}", "share", None, None, count / total)
        for side, count in sides
        if count
    ]


def light_advice(light: Light) -> tuple[str, ...]:
    """Advice on a step that is only right in linear light, where the samples are not."""
    if light != "encoded":
        return ()
    return (
        "is right in linear light, and the samples are encoded by a tone curve: put to-linear "
        "before it, and to-encoded after it",
    )


def storage_advice(findings: list[Finding], clipped: Clipped, bits: int | None) -> tuple[str, ...]:
    """Advice where storing changes the strength of the noise."""
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
