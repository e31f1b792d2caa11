"""Magnetite: calibrated degradation, compression, restoration and scoring of test pictures."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

#: Public name, and the module that holds it; loaded when first used.
_HOMES = {
    "Picture": "magnetite.core.picture",
    "ask": "magnetite.pages.blind_test",
    "bd_rate": "magnetite.core.curves.comparison",
    "compress": "magnetite.core.operations.compress",
    "convert": "magnetite.core.operations.convert",
    "chart": "magnetite.core.chart.drawing",
    "curve": "magnetite.core.curves.study",
    "degrade": "magnetite.core.operations.degrade",
    "error_maps": "magnetite.core.analysis.maps",
    "expand": "magnetite.core.operations.expand",
    "fit_naturalness": "magnetite.core.gauges.naturalness",
    "gauge": "magnetite.core.operations.gauge",
    "measure_edge": "magnetite.core.edges.slanted_edge",
    "photon_transfer": "magnetite.core.calibrate.photon_transfer",
    "opinions": "magnetite.experiment.opinions",
    "predict": "magnetite.experiment.front",
    "raters": "magnetite.experiment.opinions",
    "read": "magnetite.files.reading",
    "report": "magnetite.pages.page",
    "restore": "magnetite.core.operations.restore",
    "run": "magnetite.experiment.front",
    "scenes": "magnetite.synthetic.catalogue",
    "score": "magnetite.core.operations.score",
    "sweep": "magnetite.core.operations.sweep",
    "summarize": "magnetite.experiment.front",
    "write": "magnetite.files.writing",
}
#: Modules that hold several of one kind.
_GROUPS = {"calibrate", "gate", "view"}

__all__ = [  # noqa: RUF022
    "Picture", "read", "write", "convert", "degrade", "compress", "expand", "restore",
    "score", "gauge", "sweep", "error_maps", "curve", "bd_rate",
    "photon_transfer", "measure_edge", "fit_naturalness", "run", "summarize", "predict",
    "report", "gate", "ask", "opinions", "raters", "scenes", "chart", "calibrate", "view",
]  # fmt: skip

if TYPE_CHECKING:
    from magnetite import calibrate, gate, view
    from magnetite.core.analysis.maps import error_maps
    from magnetite.core.calibrate.photon_transfer import photon_transfer
    from magnetite.core.chart.drawing import chart
    from magnetite.core.curves.comparison import bd_rate
    from magnetite.core.curves.study import curve
    from magnetite.core.edges.slanted_edge import measure_edge
    from magnetite.core.gauges.naturalness import fit_naturalness
    from magnetite.core.operations.compress import compress
    from magnetite.core.operations.convert import convert
    from magnetite.core.operations.degrade import degrade
    from magnetite.core.operations.expand import expand
    from magnetite.core.operations.gauge import gauge
    from magnetite.core.operations.restore import restore
    from magnetite.core.operations.score import score
    from magnetite.core.operations.sweep import sweep
    from magnetite.core.picture import Picture
    from magnetite.experiment.front import predict, run, summarize
    from magnetite.files.reading import read
    from magnetite.files.writing import write
    from magnetite.pages.page import report
    from magnetite.synthetic.catalogue import scenes


def __getattr__(name: str) -> Any:
    from importlib import import_module

    if name in _GROUPS:
        return import_module(f"magnetite.{name}")
    if name not in _HOMES:
        raise AttributeError(f"module 'magnetite' has no attribute {name!r}")
    found = getattr(import_module(_HOMES[name]), name)
    if not isinstance(found, type):
        from magnetite.files.front import from_files

        found = from_files(found)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
