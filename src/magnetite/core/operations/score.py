"""Score pictures against a reference."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.chain.step import Step
from magnetite.core.compute.sharing import Sharing
from magnetite.core.errors import InputError
from magnetite.core.methods.context import Files
from magnetite.core.operations.measuring import Figures, measured
from magnetite.core.operations.selection import Named, Selection, selected
from magnetite.core.picture import Picture
from magnetite.core.picture.alignment import WHOLE, Shift, aligned
from magnetite.core.picture.matching import at_depth_of, check_comparable
from magnetite.core.picture.region import Region, RegionRows
from magnetite.core.picture.rows import UNBOUNDED, Allowance, Rows, as_rows, whole

DEFAULT_METRICS = Selection.named("metric", "mse", "psnr", "ssim")


class Scores(Figures):
    """Scores by metric, and which shift was undone."""

    def __init__(self, *figures: Any, shift: Shift | None = None) -> None:
        super().__init__(*figures)
        self.shift = shift

    def __reduce__(self) -> tuple[Any, ...]:
        _, arguments = super().__reduce__()
        return _scores, (arguments, self.shift)


def _scores(arguments: tuple[Any, ...], shift: Shift | None) -> Scores:
    return Scores(*arguments, shift=shift)


@dataclass(frozen=True)
class Pair:
    """Two pictures of one size, and the region to compare."""

    reference: Rows
    test: Rows
    #: Everything but 0 counts; None for everywhere.
    mask: Samples | None = None
    #: How far the test lay off the reference, where that was looked for.
    shift: Shift | None = None

    @property
    def words(self) -> str:
        """Remark on the shift that was undone."""
        size = f"{self.reference.frame.width}x{self.reference.frame.height} px scored"
        still = self.shift is not None and max(map(abs, self.shift[:2])) < WHOLE
        return f"left as it is, {size}" if still else f"undone, {size}"

    def aligned(self) -> Pair:
        """Both where they show the same; `PictureError` where no common shift shows."""
        match = aligned(whole(self.reference), whole(self.test))
        mask = None if self.mask is None else match.region.within(self.mask)
        return Pair(match.reference, match.test, mask, match.shift)


class Scorer:
    """A reference that tests are scored against, one after the other.

    Results that metrics share of the reference are computed once.

    Parameters
    ----------
    reference : Picture or array
    region : Region or str, optional
        The part to score, as in `120,80,64x48`: left, top, width x height, px.
    border : int
        Leave out a border of this width along every edge, px; not together with a region.
    mask : array, shape (h, w) or (h, w, n), optional
        Where to look: everything but 0 counts, of several channels the largest. Metrics of
        windows take those wholly inside.
    gray : bool
        Score the luma of every picture.
    mixed_depths : bool
        Bring every test to the reference's bit depth.
    align : bool
        Find how far each test is shifted, and undo it.
    files : Files, optional
        Reads files that settings name.
    allowance : Allowance, optional
        Larger pictures are scored in bands.

    Raises
    ------
    InputError
        If region or mask do not fit the reference, or exclude each other.
    """

    def __init__(
        self,
        reference: Rows | Samples,
        *,
        region: Region | str | None = None,
        border: int = 0,
        mask: Samples | None = None,
        gray: bool = False,
        mixed_depths: bool = False,
        align: bool = False,
        files: Files | None = None,
        allowance: Allowance = UNBOUNDED,
    ) -> None:
        if region is not None and border:
            raise InputError("a region and a border exclude each other: give the region alone")
        self._gray, self._mixed_depths, self._align = gray, mixed_depths, align
        #: Whether the pictures are read whole, whatever their size.
        self._all_rows = gray or mixed_depths or align or mask is not None
        self.reference = self._taken(reference)
        #: The part of the reference that is scored; None for all of it.
        self.part = None if region is None else Region.of_text(region)
        if border:
            self.part = Region.inside(self.reference, border)
        self._seen = self._luma(self.reference)
        self._clean = self._cropped(self._seen)
        plane = None if mask is None else _plane(mask, self.reference)
        self._mask = plane if plane is None or self.part is None else self.part.within(plane)
        self.files, self._allowance, self._sharing = files, allowance, Sharing()

    def pair(self, test: Rows | Samples) -> Pair:
        """The parts of reference and test that are compared.

        Raises
        ------
        PictureError
            If the pictures do not match, or no shift shows where it is to be undone.
        """
        picture = self._taken(test)
        check_comparable(
            self.reference, picture, any_depth=self._mixed_depths, any_colour=self._gray,
            scored=True,
        )  # fmt: skip
        if self._mixed_depths:
            picture = at_depth_of(whole(self.reference), whole(picture))
        pair = Pair(self._clean, self._cropped(self._luma(picture)), self._mask)
        return pair.aligned() if self._align else pair

    def _taken(self, source: Rows | Samples) -> Rows:
        rows = as_rows(source)
        return whole(rows) if self._all_rows else rows

    def _luma(self, source: Rows) -> Rows:
        return whole(source).exact_luma() if self._gray else source

    def _cropped(self, source: Rows) -> Rows:
        if self.part is None:
            return source
        if isinstance(source, Picture):
            return self.part.crop(source)
        return RegionRows(source, self.part)

    def score(
        self, test: Rows | Samples | Pair, metrics: Named = DEFAULT_METRICS, *, strict: bool = True
    ) -> Scores:
        """Scores of a test picture, or of the pair made from it; see `score`.

        If not strict, metrics that the pictures do not suit are left out, as those of `all` are.
        """
        pair = test if isinstance(test, Pair) else self.pair(test)
        asked = selected(metrics, "metric")
        return score_steps(
            pair, asked, strict=strict and not asked.every, sharing=self._sharing,
            files=self.files, allowance=self._allowance,
        )  # fmt: skip


def score(
    reference: Rows | Samples,
    test: Rows | Samples,
    metrics: Named = DEFAULT_METRICS,
    *,
    region: Region | str | None = None,
    border: int = 0,
    mask: Samples | None = None,
    gray: bool = False,
    mixed_depths: bool = False,
    align: bool = False,
    files: Files | None = None,
) -> Scores:
    """Score a test picture against its reference.

    Parameters
    ----------
    reference, test : Picture or array
        Of the same size, colour and bit depth.
    metrics : str or function
        Names with settings, separated by commas: `psnr,ssim window=7`; or `all`, which leaves
        out metrics that do not apply to these pictures. A metric of one's own can be given as its
        function: worker processes, which have not run its declaration, find it then.
    region, border, mask, gray, mixed_depths, align, files
        Which part is scored, and how the pictures are brought together: see `Scorer`.

    Returns
    -------
    Scores
        A mapping from the metric's canonical text to its figure. Errors in dn are on the
        scale of 8 bits whatever the depth.

    Raises
    ------
    PictureError
        If the pictures do not match or are too small for a metric.
    ChainError
        If `metrics` cannot be read.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> scores = magnetite.score(ramp, ramp + np.uint8(2), "mse,psnr")
    >>> scores["mse"], round(scores["psnr"], 2)
    (4.0, 42.11)
    """
    scorer = Scorer(
        reference, region=region, border=border, mask=mask, gray=gray,
        mixed_depths=mixed_depths, align=align, files=files,
    )  # fmt: skip
    return scorer.score(test, metrics)


def score_steps(
    pair: Pair,
    steps: Iterable[Step],
    *,
    strict: bool = True,
    sharing: Sharing | None = None,
    files: Files | None = None,
    allowance: Allowance = UNBOUNDED,
) -> Scores:
    """Scores of a pair by metrics that are read already; if not strict, of those that apply."""
    figures = measured(
        steps, pair.reference, pair.test, strict=strict, allowance=allowance, sharing=sharing,
        files=files, within=None if pair.mask is None else pair.mask != 0,
    )  # fmt: skip
    return Scores(
        figures, figures.steps, figures.left_out, figures.remarks, figures.identical,
        shift=pair.shift,
    )  # fmt: skip


def _plane(mask: Samples, reference: Rows) -> Samples:
    """One plane of a mask; of several channels the largest."""
    plane = np.asarray(mask)
    plane = plane if plane.ndim == 2 else plane.max(axis=2)
    if plane.shape != reference.frame.shape[:2]:
        raise InputError(
            f"the mask is {plane.shape[1]}x{plane.shape[0]}, {reference.origin} is "
            f"{reference.frame.describe()}: they must have one size"
        )
    return plane
