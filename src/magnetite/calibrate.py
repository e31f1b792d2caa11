"""Calibrations under the names of their commands: `magnetite.calibrate.noise(frames)`."""

from magnetite.core.calibrate.photon_transfer import photon_transfer
from magnetite.core.chart.measurement import measure_chart
from magnetite.core.edges.slanted_edge import measure_edge
from magnetite.core.gauges.naturalness import fit_naturalness
from magnetite.files.front import from_files

blur = from_files(measure_edge)
chart = from_files(measure_chart)
naturalness = from_files(fit_naturalness)
noise = from_files(photon_transfer)

__all__ = ["blur", "chart", "naturalness", "noise"]
