"""Calibrations under the names of their commands: `magnetite.calibrate.noise(frames)`."""

from magnetite.core.calibrate.photon_transfer import photon_transfer as noise
from magnetite.core.chart.measurement import measure_chart as chart
from magnetite.core.edges.slanted_edge import measure_edge as blur
from magnetite.core.gauges.naturalness import fit_naturalness as naturalness

__all__ = ["blur", "chart", "naturalness", "noise"]
