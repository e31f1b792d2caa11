"""Figures under the names of their commands: `magnetite.view.sheet(pictures, titles)`.

Each gives a Matplotlib figure; `save` writes one.
"""

from magnetite.files.front import from_files
from magnetite.views.approximation import approximation_figure
from magnetite.views.noise import noise_figure
from magnetite.views.planes import planes_figure
from magnetite.views.profile import profile_figure
from magnetite.views.residual import residual_figure
from magnetite.views.sharpness import sharpness_figure
from magnetite.views.sheet import sheet as pictures_sheet
from magnetite.views.spectrum import spectrum_figure
from magnetite.views.style import save
from magnetite.views.surface import surface_figure
from magnetite.views.sweep_curves import sweep_figure as sweep

approximation = from_files(approximation_figure)
noise = from_files(noise_figure)
planes = from_files(planes_figure)
profile = from_files(profile_figure)
residual = from_files(residual_figure)
sharpness = from_files(sharpness_figure)
sheet = from_files(pictures_sheet)
spectrum = from_files(spectrum_figure)
surface = from_files(surface_figure)

__all__ = [
    "approximation", "noise", "planes", "profile", "residual", "save", "sharpness", "sheet",
    "spectrum", "surface", "sweep",
]  # fmt: skip
