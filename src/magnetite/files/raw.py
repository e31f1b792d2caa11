"""Raw mosaics in TIFF files, as of DNG (Adobe, Digital Negative Specification 1.7, 2023)."""

from __future__ import annotations

from typing import Any

import numpy as np

#: Photometric interpretation of a mosaic, and tags of its pattern, black and white levels and the
#: curve that its samples were stored by.
_CFA = "CFA"
_PATTERN, _BLACK, _WHITE, _CURVE = 33422, 50714, 50717, 50712
_COLOURS = "rgb"


def main_page(tiff: Any) -> Any:
    """The mosaic among a file's pages and the pages within its first one; else the first page."""
    first = tiff.pages[0]
    within = list(first.pages or ())
    mosaics = [page for page in (first, *within) if is_mosaic(page)]
    return max(mosaics, key=lambda page: int(np.prod(page.shape)), default=first)


def is_mosaic(page: Any) -> bool:
    """Whether a page holds one colour a sample."""
    return str(getattr(page.photometric, "name", "")) == _CFA


def is_linear(page: Any) -> bool:
    """Whether a mosaic's samples are linear: they were not stored by a curve."""
    return _CURVE not in page.tags


def mosaic_notes(page: Any) -> tuple[str, ...]:
    """Pattern, black level and white level by the tags, with the options that take them."""
    pattern = "".join(
        _COLOURS[int(code)] for code in _numbers(page, _PATTERN) if 0 <= code < len(_COLOURS)
    )
    known = sorted(pattern) == sorted("rggb")
    words = [f"a mosaic of pattern {pattern}" if known else "a mosaic of unknown pattern"]
    blacks, whites = (_numbers(page, tag) for tag in (_BLACK, _WHITE))
    if blacks:
        words.append(f"black level {np.mean(blacks):.6g} dn")
    if whites:
        words.append(f"white level {max(whites):.6g} dn")
    if not is_linear(page):
        words.append("stored by a curve, which is not undone")
    return (f"{', '.join(words)}: samples are used as they are",)


def _numbers(page: Any, number: int) -> list[float]:
    """A tag's numbers, fractions divided; none where it is missing or damaged."""
    tag = page.tags.get(number)
    if tag is None:
        return []
    value = list(tag.value) if isinstance(tag.value, bytes | tuple | list) else [tag.value]
    flat = np.ravel(np.asarray(value, np.float64))
    if int(tag.dtype) == 5:  # fractions come as numerator and denominator
        flat = flat[::2] / np.where(flat[1::2] == 0, 1, flat[1::2])
    return [float(v) for v in flat if np.isfinite(v)]
