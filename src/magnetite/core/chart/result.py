"""The figures of a camera that was measured from the chart."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.calibrate.fitting import NORMAL_95, Estimate
from magnetite.core.chart.colour import ColourError, ColourShift
from magnetite.core.chart.design import Chart
from magnetite.core.chart.marks import Found
from magnetite.core.chart.noise import NoiseModel
from magnetite.core.chart.resolution import FieldEdge, StarResponse
from magnetite.core.chart.texture import Texture
from magnetite.core.chart.tone import Falloff, Tone
from magnetite.core.compute.psf import crossing
from magnetite.core.picture.frame import Frame
from magnetite.core.table import Tabular

#: Distance from the middle, share of the half diagonal: up to it an edge is central, from it on
#: one of a corner.
_CENTRAL, _OUTER = 0.35, 0.65
#: Frequency, c/px, at which the responses to edges and to texture are compared.
COMPARED = 0.25


class ChartRow(NamedTuple):
    """One figure with its 95 % interval; None where there is none."""

    figure: str
    value: float | None
    low: float | None
    high: float | None
    unit: str


@dataclass(frozen=True, repr=False)
class ChartMeasurement(Tabular):
    """A camera's figures; parts that could not be measured are empty or None, see `notes`."""

    frame: Frame
    chart: Chart
    found: Found
    tone: Tone
    falloff: Falloff
    noise: tuple[NoiseModel, ...]
    edges: tuple[FieldEdge, ...]
    star: StarResponse | None
    texture: Texture | None
    colours: ColourError | None
    shifts: tuple[ColourShift, ...]
    notes: tuple[str, ...]

    def rows(self) -> list[ChartRow]:
        """A row for each figure, with its 95 % interval where it has one."""
        rows = [
            _row("distortion in the corners", self.distortion, "%"),
            ChartRow("fall-off in the corners", self.falloff.corners, None, None, "%"),
        ]
        if self.tone.black is not None:
            black = 100 * float(self.tone.black.mean())
            rows.append(ChartRow("black level", black, None, None, "% of full scale"))
        rows += self._noise_rows()
        rows += [
            _row(f"MTF50, {words}", estimate, "c/px")
            for words, estimate in self.sharpness().items()
        ]
        measured = [e.edge for e in self.edges if e.edge is not None]
        tenths = [edge.mtf10 for edge in measured if edge.mtf10 is not None]
        if tenths:
            rows.append(ChartRow("MTF10, median", float(np.median(tenths)), None, None, "c/px"))
        if measured:
            overshoot = 100 * float(np.median([edge.overshoot for edge in measured]))
            rows.append(ChartRow("overshoot, median", overshoot, None, None, "%"))
        rows += self._texture_rows()
        if self.colours is not None:
            rows += [
                ChartRow("colour error, mean", self.colours.mean, None, None, "ΔE00"),
                ChartRow("colour error, 95 %", self.colours.high, None, None, "ΔE00"),
            ]
        for shift in self.shifts:
            rows.append(_row(f"shift of {shift.channel}, corners", shift.corners, "px outwards"))
            across, down = shift.constant
            rows.append(_row(f"shift of {shift.channel}, across", across, "px"))
            rows.append(_row(f"shift of {shift.channel}, down", down, "px"))
        return rows

    @property
    def distortion(self) -> Estimate:
        """Radial displacement in the corners, %."""
        return Estimate.of(self.found.mapping.distortion, self.found.distortion_error)

    @property
    def main_noise(self) -> NoiseModel | None:
        """The noise of green, or of gray."""
        return self.noise[len(self.noise) // 2] if self.noise else None

    def sharpness(self) -> dict[str, Estimate]:
        """Mean MTF50 of the centre, and of the corners along and across the radius."""
        groups: dict[str, Callable[[FieldEdge], bool]] = {
            "centre": lambda edge: edge.field <= _CENTRAL,
            "corners, radial": lambda e: e.field >= _OUTER and e.orientation == "radial",
            "corners, tangential": lambda e: e.field >= _OUTER and e.orientation == "tangential",
        }
        means = {}
        for words, belongs in groups.items():
            if (mean := _mean_mtf50(edge for edge in self.edges if belongs(edge))) is not None:
                means[words] = mean
        return means

    def edge_response(self, frequency: float) -> float | None:
        """Median response of the edges at a frequency, c/px."""
        measured = [e.edge for e in self.edges if e.edge is not None]
        if not measured:
            return None
        return float(np.median([np.interp(frequency, e.frequency, e.mtf) for e in measured]))

    def _noise_rows(self) -> list[ChartRow]:
        model = self.main_noise
        if model is None:
            return []
        rows = [
            _row(f"read noise, {model.channel}", model.read.scaled(100), "% of full scale"),
            _row(f"read noise, {model.channel}", model.read_electrons, "e"),
            _row(f"full well, {model.channel}", model.full_well, "e"),
            _row(f"PRNU, {model.channel}", model.prnu.scaled(100), "%"),
        ]
        if model.dynamic_range is not None:
            decibels = 20 * math.log10(model.dynamic_range)
            rows.append(ChartRow("dynamic range", decibels, None, None, "dB"))
        return rows

    def _texture_rows(self) -> list[ChartRow]:
        rows = []
        if self.star is not None:
            mean = np.nanmean(self.star.response, axis=0)
            half = crossing(self.star.frequency, mean, 0.5)
            if half is not None:
                rows.append(ChartRow("MTF50, star", half, None, None, "c/px"))
        if self.texture is not None:
            at = self.texture.frequency
            for words, curve in (
                ("cross spectrum", self.texture.by_cross),
                ("power spectrum", self.texture.by_power),
            ):
                value = float(np.interp(COMPARED, at, curve))
                rows.append(
                    ChartRow(f"texture at {COMPARED:g} c/px, {words}", value, None, None, "")
                )
        edges = self.edge_response(COMPARED)
        if edges is not None:
            rows.append(ChartRow(f"edges at {COMPARED:g} c/px", edges, None, None, ""))
        return rows

    @property
    def remarks(self) -> tuple[str, ...]:
        """Notes on the figures, the last of them on processing that the figures show."""
        made = list(self.notes)
        edges = self.edge_response(COMPARED)
        if edges is not None and self.texture is not None:
            at = self.texture.frequency
            texture = float(np.interp(COMPARED, at, self.texture.by_cross))
            if texture < 0.8 * edges:
                made.append(
                    f"fine texture keeps {texture:.2f} of its contrast at {COMPARED:g} c/px, edges "
                    f"{edges:.2f}: the picture was denoised, or sharpened at edges only"
                )
        sharpened = [e for e in self.edges if e.edge is not None and e.edge.overshoot > 0]
        measured = sum(e.edge is not None for e in self.edges)
        if measured and len(sharpened) > measured / 2:
            made.append(
                f"{len(sharpened)} of {measured} edges overshoot: the picture was sharpened, and "
                "its MTF is not that of the lens"
            )
        return tuple(made)

    def as_record(self) -> dict[str, Any]:
        """All figures as plain values for JSON; None where there is none."""
        model = self.main_noise
        return {
            "distortion": self.distortion.value,
            "distortion_interval": [self.distortion.low, self.distortion.high],
            "falloff": self.falloff.corners,
            "tone": {
                "kind": self.tone.kind,
                "light": self.tone.light.tolist(),
                "level": self.tone.level.tolist(),
            },
            "steps": [] if model is None else [
                {"light": s.light, "signal": s.signal, "noise": s.noise,
                 "noise_error": NORMAL_95 * s.error * s.noise}
                for s in model.steps
            ],
            "noise": [
                {"channel": one.channel} | {
                    name: [_finite(v) for v in (estimate.value, estimate.low, estimate.high)]
                    for name, estimate in (
                        ("read", one.read), ("read_electrons", one.read_electrons),
                        ("full_well", one.full_well), ("prnu", one.prnu),
                    )
                } | {"chi_square": one.chi_square, "correlation": one.correlation,
                     "dynamic_range": one.dynamic_range}
                for one in self.noise
            ],
            "edges": [_edge_record(edge) for edge in self.edges],
            "star": None if self.star is None else {
                "direction": self.star.direction.tolist(),
                "frequency": [_finite(v) for v in self.star.frequency],
                "response": [[_finite(v) for v in row] for row in self.star.response],
            },
            "texture": None if self.texture is None else {
                "frequency": self.texture.frequency.tolist(),
                "by_cross_spectrum": self.texture.by_cross.tolist(),
                "by_power_spectrum": self.texture.by_power.tolist(),
            },
            "colour_error": None if self.colours is None else {
                "mean": self.colours.mean, "high": self.colours.high,
                "patches": self.colours.differences.tolist(),
            },
            "colour_shift": {
                shift.channel: {
                    name: [one.value, one.low, one.high]
                    for name, one in (
                        ("corners", shift.corners), ("across", shift.constant[0]),
                        ("down", shift.constant[1]),
                    )
                } | {"largest": shift.largest}
                for shift in self.shifts
            },
            "notes": list(self.remarks),
        }  # fmt: skip


def _row(name: str, estimate: Estimate, unit: str) -> ChartRow:
    value, low, high = (
        None if math.isnan(v) else v for v in (estimate.value, estimate.low, estimate.high)
    )
    return ChartRow(name, value, low, high, unit)


def _mean_mtf50(edges: Iterable[FieldEdge]) -> Estimate | None:
    """Mean of the edges' MTF50; its error is that of their own errors."""
    measured = [e.edge for e in edges if e.edge is not None]
    halves = [(e.mtf50, e.mtf50_error) for e in measured if e.mtf50 is not None]
    if not halves:
        return None
    errors = [error for _, error in halves if error is not None]
    mean = float(np.mean([half for half, _ in halves]))
    if not errors:
        return Estimate(mean, math.nan, math.nan)
    rms = math.sqrt(float(np.mean(np.square(errors)))) / NORMAL_95
    return Estimate.of(mean, rms / math.sqrt(len(halves)))


def _edge_record(edge: FieldEdge) -> dict[str, Any]:
    measured = edge.edge
    return {
        "x": edge.x, "y": edge.y, "field": edge.field, "direction": edge.direction,
        "orientation": edge.orientation, "contrast": edge.contrast,
        "mtf50": None if measured is None else measured.mtf50,
        "mtf50_error": None if measured is None else measured.mtf50_error,
        "mtf10": None if measured is None else measured.mtf10,
        "overshoot": None if measured is None else measured.overshoot,
        "reason": edge.reason or None,
    }  # fmt: skip


def _finite(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None
