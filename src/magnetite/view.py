"""Figures under the names of their commands: `magnetite.view.sheet(pictures, titles)`.

Each gives a Matplotlib figure; `save` writes one.
"""

from magnetite.views.approximation import approximation_figure as approximation
from magnetite.views.noise import noise_figure as noise
from magnetite.views.planes import planes_figure as planes
from magnetite.views.profile import profile_figure as profile
from magnetite.views.residual import residual_figure as residual
from magnetite.views.sharpness import sharpness_figure as sharpness
from magnetite.views.sheet import sheet
from magnetite.views.spectrum import spectrum_figure as spectrum
from magnetite.views.style import save
from magnetite.views.surface import surface_figure as surface
from magnetite.views.sweep_curves import sweep_figure as sweep

__all__ = [
    "approximation", "noise", "planes", "profile", "residual", "save", "sharpness",
    "sheet", "spectrum",
    "surface", "sweep",
]  # fmt: skip
