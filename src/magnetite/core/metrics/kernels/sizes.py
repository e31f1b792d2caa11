"""The smallest picture that a metric or gauge is defined on, or worth a compiled loop."""

from __future__ import annotations

from magnetite.core.arrays import Pixels
from magnetite.core.errors import PictureError

#: Pictures of fewer samples are not worth the time that a compiled loop takes to load.
WORTH_COMPILING = 2**17


def check_size(name: str, plane: Pixels, least: int) -> None:
    """Raise `PictureError` unless both sides of a plane have `least` samples or more."""
    height, width = plane.shape[:2]
    if min(height, width) < least:
        raise PictureError(f"{name} needs at least {least}x{least} samples, not {width}x{height}")
