"""Pictures: samples with their meaning, parts of them, how two of them lie."""

from magnetite.core.picture.frame import Colour, Frame
from magnetite.core.picture.picture import (
    LUMA_WEIGHTS,
    Picture,
    as_picture,
    beyond_range,
    frozen,
    luma,
)
from magnetite.core.picture.storing import Clipped

__all__ = [
    "LUMA_WEIGHTS", "Clipped", "Colour", "Frame", "Picture", "as_picture", "beyond_range", "frozen",
    "luma",
]  # fmt: skip
