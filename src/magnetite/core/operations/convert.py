"""Convert pictures: to gray, to a part, to another depth."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import bind_step
from magnetite.core.chain.notation import as_chain
from magnetite.core.chain.step import Chain, Step
from magnetite.core.errors import InputError
from magnetite.core.limits import BYTES_PER_SAMPLE
from magnetite.core.methods.declarations import Conversion
from magnetite.core.operations.local import REMEDY, whole_note
from magnetite.core.picture import Picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.region import RegionRows
from magnetite.core.picture.rows import UNBOUNDED, Allowance, Rows, as_rows, in_bands, whole


def convert(source: Rows | Samples, chain: Chain | str) -> Picture:
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

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> magnetite.convert(ramp, "crop left=10 top=0 width=20 height=8").describe()
    '20x8 gray, 8 bits'
    """
    return _converted(whole(as_rows(source)), as_chain(chain, "conversion").steps)


def converting(
    source: Rows | Samples, chain: Chain | str, allowance: Allowance = UNBOUNDED
) -> ConvertedRows:
    """A picture of any size, converted as its rows are read; see `convert`.

    Raises
    ------
    PictureError
        If a step does not suit the picture.
    InputError
        If a step needs the whole picture, which has more samples than are allowed.
    LimitError
        If the memory does not suffice for a band.
    """
    rows, steps = as_rows(source), as_chain(chain, "conversion").steps
    allowance = allowance.of(rows)
    obstacle = next(filter(None, map(_obstacle, steps)), None)
    if obstacle is not None:
        frame = rows.frame
        height = allowance.height(frame, BYTES_PER_SAMPLE, 0, obstacle)
        note = whole_note(obstacle, height, frame, allowance)
        return ConvertedRows(_converted(whole(rows), steps), (), allowance, note)
    local = []
    for step in steps:
        conversion = step.declared(Conversion)
        if conversion.region is None:  # it keeps the position of every sample
            local.append(step)
            continue
        settings = bind_step(step, rows.frame).arguments
        rows = RegionRows(rows, conversion.region(rows.frame, **settings))
    return ConvertedRows(rows, tuple(local), allowance)


@dataclass
class ConvertedRows:
    """A picture of which any rows are converted as they are read; iterate for its bands."""

    source: Rows
    steps: tuple[Step, ...]
    allowance: Allowance
    #: Remark for the user.
    note: str = ""

    def __post_init__(self) -> None:
        kept, first = self.source.frame, self.part(slice(0, 1))
        self.frame: Frame = replace(first.frame, height=kept.height)
        self._height = self.allowance.height(kept, BYTES_PER_SAMPLE, 0, None)

    @property
    def origin(self) -> str:
        return self.source.origin

    def part(self, rows: slice) -> Picture:
        """Some rows; see `Rows`."""
        return _converted(self.source.part(rows), self.steps)

    def __iter__(self) -> Iterator[Picture]:
        """The bands, from the top."""
        return (band.pictures[0] for band in in_bands(self._height, self))


def _obstacle(step: Step) -> InputError | None:
    """Why a conversion needs the whole picture; None where it does not."""
    conversion = step.declared(Conversion)
    if conversion.region is None and conversion.reach is None:
        return InputError(f"{step}: needs the whole picture; {REMEDY}")
    return None


def _converted(picture: Picture, steps: tuple[Step, ...]) -> Picture:
    for step in steps:
        picture = bind_step(step, picture.frame).call(picture)
    return picture
