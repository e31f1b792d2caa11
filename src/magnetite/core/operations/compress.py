"""Compress pictures to `.mgt` bytes."""

from __future__ import annotations

import math

from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import ReadOnce
from magnetite.core.chain.notation import as_step
from magnetite.core.chain.step import Step
from magnetite.core.errors import InputError
from magnetite.core.methods.context import Files
from magnetite.core.operations.aim import Target
from magnetite.core.operations.coding import CodedRows, Compressed
from magnetite.core.operations.rate import compress_to_aim, compress_to_rate
from magnetite.core.picture.rows import UNBOUNDED, Allowance, Rows, as_rows, whole
from magnetite.core.quantities import read_number


def compress(
    source: Rows | Samples,
    step: Step | str,
    *,
    rate: float | str | None = None,
    ratio: float | None = None,
    aim: Target | str | None = None,
    files: Files | None = None,
) -> Compressed:
    """Compress a picture with one codec, such as `dct step=8dn block=16`.

    Parameters
    ----------
    source : Picture or array
    step : str or Step
        The codec with its settings; without its quality setting where that is to be found.
    rate : float or str, optional
        Find the setting for the largest file of at most this many bits per pixel: `0.5` or
        `"0.5bpp"`.
    ratio : float, optional
        The same for a file this many times smaller than the picture's samples.
    aim : str or Target, optional
        Find the setting for a score or gauge of the decoded picture: `psnr=36`, `ssim>=0.95`.
    files : Files, optional
        Reads files that the aim's settings name, each once.

    Returns
    -------
    Compressed
        With the result of an aim, in `aim`.

    Raises
    ------
    ChainError
        If the step or the aim cannot be read or used on this picture.
    InputError
        If more than one of `rate`, `ratio` and `aim` is given, or one is not above 0.
    TargetError
        If no setting reaches the target.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> coded = magnetite.compress(ramp, "pcm bits=4")
    >>> coded.bpp < 4
    True
    """
    picture = whole(as_rows(source))
    asked = {"rate": rate, "ratio": ratio, "aim": aim}
    given = [name for name, value in asked.items() if value is not None]
    if len(given) > 1:
        raise InputError(f"{' and '.join(given)} exclude each other: give one")
    if aim is not None:
        return compress_to_aim(picture, step, aim, ReadOnce(files))
    if ratio is not None:
        rate = picture.sample_bits * picture.channels / _positive("ratio", ratio)
    if rate is not None:
        return compress_to_rate(picture, step, _positive("rate", _bpp(rate)))
    return compressing(picture, step).compressed()


def compressing(source: Rows, step: Step | str, allowance: Allowance = UNBOUNDED) -> CodedRows:
    """The coding of a picture of any size, still to be carried out; see `compress`.

    Raises
    ------
    InputError
        If the codec needs the whole picture, which has more samples than are allowed.
    LimitError
        If the memory does not suffice for a slab.
    """
    return CodedRows(source, as_step(step, "codec"), allowance)


def _bpp(rate: float | str) -> float:
    """Bits per pixel, of a number or of text such as `0.5bpp`."""
    if not isinstance(rate, str):
        return rate
    try:
        return read_number(rate.removesuffix("bpp"))
    except ValueError:
        raise InputError(f"rate {rate} is not one: write bits per pixel, as in 0.5bpp") from None


def _positive(name: str, value: float) -> float:
    if not 0 < value < math.inf:
        raise InputError(f"{name} is {value:g}; it must be a number above 0")
    return value
