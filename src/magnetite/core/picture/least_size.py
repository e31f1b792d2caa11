"""The smallest picture that a metric or gauge is defined on."""

from __future__ import annotations

from magnetite.core.arrays import Pixels
from magnetite.core.errors import PictureError


def check_size(name: str, plane: Pixels, least: int) -> None:
    """Raise `PictureError` unless both sides of a plane have `least` samples or more."""
    height, width = plane.shape[:2]
    if min(height, width) < least:
        raise PictureError(f"{name} needs at least {least}x{least} samples, not {width}x{height}")
