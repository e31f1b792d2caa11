"""Convert pictures: to gray, to a part, to another depth."""

from __future__ import annotations

from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import bind_step
from magnetite.core.chain.notation import parse_chain
from magnetite.core.chain.step import Chain
from magnetite.core.picture import Picture, as_picture


def convert(source: Picture | Samples, chain: str | Chain) -> Picture:
    """Apply a chain of conversions.

    Parameters
    ----------
    source : Picture or array
        See `as_picture` for arrays.
    chain : str or Chain
        Such as `middle width=512 height=512 + gray weights=bt709`.

    Returns
    -------
    Picture
        Its size, colour and depth are those that the steps give it.

    Raises
    ------
    ChainError
        If the chain cannot be read.
    PictureError
        If the picture does not suit a step.
    """
    picture = as_picture(source)
    parsed = parse_chain(chain, "conversion") if isinstance(chain, str) else chain
    for step in parsed.steps:
        picture = bind_step(step, picture.frame).call(picture)
    return picture
