"""Pictures: samples with their meaning, parts of them, how two of them lie."""

from magnetite.core.picture.frame import Colour, Frame
from magnetite.core.picture.picture import (
    Clipped,
    Picture,
    as_picture,
    beyond_range,
    frozen,
    luma,
)

__all__ = ["Clipped", "Colour", "Frame", "Picture", "as_picture", "beyond_range", "frozen", "luma"]
