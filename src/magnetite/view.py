"""Figures under the names of their commands: `magnetite.view.sheet(pictures, titles)`.

Each gives a Matplotlib figure, and leaves the defaults of other plots alone; `save` writes one.
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
from magnetite.views.style import in_style
from magnetite.views.style import save as save_figure
from magnetite.views.surface import surface_figure
from magnetite.views.sweep_curves import sweep_figure

approximation = from_files(in_style(approximation_figure))
noise = from_files(in_style(noise_figure))
planes = from_files(in_style(planes_figure))
profile = from_files(in_style(profile_figure))
residual = from_files(in_style(residual_figure))
sharpness = from_files(in_style(sharpness_figure))
sheet = from_files(in_style(pictures_sheet))
spectrum = from_files(in_style(spectrum_figure))
surface = from_files(in_style(surface_figure))
sweep = in_style(sweep_figure)
save = in_style(save_figure)

__all__ = [
    "approximation", "noise", "planes", "profile", "residual", "save", "sharpness", "sheet",
    "spectrum", "surface", "sweep",
]  # fmt: skip
