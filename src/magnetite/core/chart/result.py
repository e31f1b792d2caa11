"""The figures of a camera that was measured from the chart."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.calibrate.fitting import NORMAL_95, Estimate
from magnetite.core.chart.colour import ColourError, ColourShift
from magnetite.core.chart.design import Chart
from magnetite.core.chart.exposure import CLIPPED
from magnetite.core.chart.falloff import Falloff
from magnetite.core.chart.marks import Found
from magnetite.core.chart.noise import NoiseModel
from magnetite.core.chart.resolution import FieldEdge, StarResponse
from magnetite.core.chart.texture import Texture
from magnetite.core.chart.tone import Tone
from magnetite.core.edges.slanted_edge import Edge
from magnetite.core.picture.frame import Frame
from magnetite.core.table import Tabular

#: Distance from the middle, share of the half diagonal: up to it an edge is central, from it on
#: one of a corner.
_CENTRAL, _OUTER = 0.35, 0.65
#: Frequency, c/px, at which the responses to edges and to texture are compared.
COMPARED = 0.25
#: Share of the edges' response below which texture has lost more.
_LESS = 0.8
#: Draws of errors for the interval of a median.
_DRAWS = 400
#: Half the 95 % interval of an edge's figures in standard errors: Student's t of 7 degrees.
_T_OF_PARTS = 2.365
#: Median absolute deviation to sd of normal numbers.
_MAD_TO_SD = 1.4826


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
        rows = [_row("distortion in the corners", self.distortion, "%")]
        if (corners := self.falloff.corners) is not None:
            rows.append(_row("fall-off in the corners", corners, "%"))
        if (black := self.tone.black_level) is not None:
            rows.append(_row("black level", black.scaled(100), "% of full scale"))
        rows += self._noise_rows()
        rows += [
            _row(f"MTF50, {words}", estimate, "c/px")
            for words, estimate in self.sharpness().items()
        ]
        tenth = self._median(lambda edge: (edge.mtf10, edge.mtf10_error))
        if tenth is not None:
            rows.append(_row("MTF10, median", tenth, "c/px"))
        over = self._median(lambda edge: (edge.overshoot, edge.overshoot_error))
        if over is not None:
            over = replace(over, low=max(0.0, over.low))
            rows.append(_row("overshoot, median", over.scaled(100), "%"))
        rows += self._texture_rows()
        if self.colours is not None:
            rows += [
                _row("colour error, mean", self.colours.mean, "ΔE00"),
                _row("colour error, 95 %", self.colours.high, "ΔE00"),
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

    def edge_response(self, frequency: float) -> Estimate | None:
        """Median response of the edges at a frequency, c/px."""
        return self._median(lambda edge: edge.mtf_at(frequency))

    def _median(
        self, figure: Callable[[Edge], tuple[float | None, float | None]]
    ) -> Estimate | None:
        """Median of a figure of the edges, with an interval that follows from their own errors.

        A figure that an edge does not reach is larger than all others; None if half have none.
        """
        found = [figure(one.edge) for one in self.edges if one.edge is not None]
        values = [math.inf if value is None else value for value, _ in found]
        middle = float(np.median(values)) if values else math.inf
        if math.isinf(middle):
            return None
        sure = [(value, error) for value, error in found if None not in (value, error)]
        if not sure:
            return Estimate(middle, math.nan, math.nan)
        values, errors = np.array(sure).T
        return Estimate.of(middle, _error_of_median(values, errors / _T_OF_PARTS))

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
            rows.append(_row("dynamic range", model.dynamic_range, "dB"))
        return rows

    def _texture_rows(self) -> list[ChartRow]:
        rows = []
        if self.star is not None and (half := self.star.mtf50) is not None:
            rows.append(_row("MTF50, star", half, "c/px"))
        if self.texture is not None:
            rows += [
                _row(f"texture at {COMPARED:g} c/px, {words}", response, "")
                for words, response in self.texture.at(COMPARED).items()
            ]
        if (edges := self.edge_response(COMPARED)) is not None:
            rows.append(_row(f"edges at {COMPARED:g} c/px", edges, ""))
        return rows

    @property
    def remarks(self) -> tuple[str, ...]:
        """Notes on the figures, the last of them on processing that the figures show."""
        made = [*self.notes, *self._unreached()]
        if self.colours is not None and self.colours.missing:
            made.append(
                f"{self.colours.missing} of {len(self.chart.colours)} colour patches left out of "
                f"the colour errors: outside the picture, too small, or {CLIPPED}"
            )
        edges = self.edge_response(COMPARED)
        if edges is not None and self.texture is not None and not self.tone.contradicted:
            texture = self.texture.at(COMPARED)["cross spectrum"]
            if np.fmax(texture.value, texture.high) < _LESS * np.fmin(edges.value, edges.low):
                made.append(
                    f"fine texture keeps {texture.value:.2f} of its contrast at {COMPARED:g} c/px, "
                    f"edges {edges.value:.2f}: the picture was denoised, or sharpened at edges only"
                )
        sharpened = [e for e in self.edges if e.edge is not None and e.edge.overshoot > 0]
        measured = sum(e.edge is not None for e in self.edges)
        if measured and len(sharpened) > measured / 2:
            made.append(
                f"{len(sharpened)} of {measured} edges overshoot: the picture was sharpened, and "
                "its MTF is not that of the lens"
            )
        return tuple(made)

    def _unreached(self) -> list[str]:
        """Remarks on levels that curves do not cross between their lowest and highest frequency."""
        made = []
        tenths = [one.edge.mtf10 for one in self.edges if one.edge is not None]
        if count := tenths.count(None):
            made.append(
                f"{count} of {len(tenths)} edges keep more than a tenth of their contrast up to "
                "1 c/px: their MTF10 counts as larger than that of all others"
            )
        if self.star is not None and self.star.mtf50 is None:
            frequency, mean, _ = self.star.mean
            if mean.size == 0:
                made.append("no MTF50 of the star: it is too small in the picture")
            elif mean[0] < 0.5:
                made.append(
                    f"no MTF50 of the star: at its lowest frequency, {frequency[0]:.3f} c/px, it "
                    f"keeps {mean[0]:.2f} of its contrast"
                )
            else:
                made.append(
                    f"no MTF50 of the star: at its highest frequency, {frequency[-1]:.3f} c/px, "
                    f"it keeps {mean[-1]:.2f} of its contrast"
                )
        return made

    def as_record(self) -> dict[str, Any]:
        """All figures as plain values for JSON; None where there is none."""
        model = self.main_noise
        return {
            "distortion": self.distortion.value,
            "distortion_interval": [self.distortion.low, self.distortion.high],
            "falloff": self.falloff.corners and _ends(self.falloff.corners),
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
                    name: _ends(estimate)
                    for name, estimate in (
                        ("read", one.read), ("read_electrons", one.read_electrons),
                        ("full_well", one.full_well), ("prnu", one.prnu),
                    )
                } | {"chi_square": one.chi_square, "correlation": one.correlation,
                     "dynamic_range": one.dynamic_range and _ends(one.dynamic_range)}
                for one in self.noise
            ],
            "edges": [_edge_record(edge) for edge in self.edges],
            "star": None if self.star is None else {
                "direction": self.star.direction.tolist(),
                "frequency": [_finite(v) for v in self.star.frequency],
                "response": [[_finite(v) for v in row] for row in self.star.response],
                "error": [[_finite(NORMAL_95 * v) for v in row] for row in self.star.error],
            },
            "texture": None if self.texture is None else {
                "frequency": self.texture.frequency.tolist(),
                "by_cross_spectrum": self.texture.by_cross.tolist(),
                "by_power_spectrum": self.texture.by_power.tolist(),
                "cross_error": [_finite(NORMAL_95 * v) for v in self.texture.cross_error],
                "power_error": [_finite(NORMAL_95 * v) for v in self.texture.power_error],
            },
            "colour_error": None if self.colours is None else {
                "mean": _ends(self.colours.mean), "high": _ends(self.colours.high),
                "patches": self.colours.differences.tolist(),
            },
            "colour_shift": {
                shift.channel: {
                    name: _ends(one)
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


def _error_of_median(values: Float64, errors: Float64) -> float:
    """Standard error of the median of values with errors of their own, from draws of these.

    The values are shrunk to the spread that their errors do not explain.
    """
    away = values - np.median(values)
    spread = (_MAD_TO_SD * float(np.median(np.abs(away)))) ** 2
    own = max(0.0, 1 - float(np.median(errors**2)) / spread) if spread > 0 else 0.0
    draws = np.random.default_rng(0).normal(size=(_DRAWS, values.size)) * errors
    return float(np.std(np.median(math.sqrt(own) * away + draws, axis=1)))


def _edge_record(edge: FieldEdge) -> dict[str, Any]:
    measured = edge.edge
    return {
        "x": edge.x, "y": edge.y, "field": edge.field, "direction": edge.direction,
        "orientation": edge.orientation, "contrast": edge.contrast,
        "mtf50": None if measured is None else measured.mtf50,
        "mtf50_error": None if measured is None else measured.mtf50_error,
        "mtf10": None if measured is None else measured.mtf10,
        "mtf10_error": None if measured is None else measured.mtf10_error,
        "overshoot": None if measured is None else measured.overshoot,
        "reason": edge.reason or None,
    }  # fmt: skip


def _ends(estimate: Estimate) -> list[float | None]:
    """A figure and the ends of its interval."""
    return [_finite(v) for v in (estimate.value, estimate.low, estimate.high)]


def _finite(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None
