"""Score pictures against a reference."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.chain.step import Step
from magnetite.core.compute.sharing import Sharing
from magnetite.core.errors import InputError
from magnetite.core.methods.parameters import Files
from magnetite.core.operations.measuring import ALL, Figures, Named, measured, parse_figures
from magnetite.core.picture import Picture, as_picture
from magnetite.core.picture.alignment import WHOLE, Shift, aligned
from magnetite.core.picture.matching import at_depth_of, check_comparable, check_depths
from magnetite.core.picture.region import Region

DEFAULT_METRICS = "mse,psnr,ssim"


class Scores(Figures):
    """Scores by metric, whether the pictures were identical, and which shift was undone."""

    def __init__(
        self,
        figures: Mapping[str, float],
        steps: Sequence[Step] = (),
        left_out: Mapping[str, str] | None = None,
        remarks: Sequence[str] = (),
        identical: bool = False,
        shift: Shift | None = None,
    ) -> None:
        super().__init__(figures, steps, left_out, remarks)
        self.identical = identical
        self.shift = shift

    def __reduce__(self) -> tuple[Any, ...]:
        make, arguments = super().__reduce__()
        return make, (*arguments, self.identical, self.shift)


@dataclass(frozen=True)
class Pair:
    """Two pictures of one size, and the region to compare."""

    reference: Picture
    test: Picture
    #: Everything but 0 counts; None for everywhere.
    mask: Samples | None = None
    #: How far the test lay off the reference, where that was looked for.
    shift: Shift | None = None

    @property
    def words(self) -> str:
        """Remark on the shift that was undone."""
        size = f"{self.reference.width}x{self.reference.height} px scored"
        still = self.shift is not None and max(map(abs, self.shift[:2])) < WHOLE
        return f"left as it is, {size}" if still else f"undone, {size}"

    def aligned(self) -> Pair:
        """Both where they show the same; `PictureError` where no common shift shows."""
        match = aligned(self.reference, self.test)
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

    Raises
    ------
    InputError
        If region or mask do not fit the reference, or exclude each other.
    """

    def __init__(
        self,
        reference: Picture | Samples,
        *,
        region: Region | str | None = None,
        border: int = 0,
        mask: Samples | None = None,
        gray: bool = False,
        mixed_depths: bool = False,
        align: bool = False,
        files: Files | None = None,
    ) -> None:
        self._whole = as_picture(reference)
        if region is not None and border:
            raise InputError("a region and a border exclude each other: give the region alone")
        #: The part of the reference that is scored.
        self.part = Region.inside(self._whole, border) if region is None else Region.of_text(region)
        self._gray, self._mixed_depths, self._align = gray, mixed_depths, align
        self._seen = self._whole.exact_luma() if gray else self._whole
        self._clean = self.part.crop(self._seen)
        self._mask = None if mask is None else self.part.within(_plane(mask, self._whole))
        self.files, self._sharing = files, Sharing()

    def pair(self, test: Picture | Samples) -> Pair:
        """The parts of reference and test that are compared.

        Raises
        ------
        PictureError
            If the pictures do not match, or no shift shows where it is to be undone.
        """
        picture = as_picture(test)
        if self._mixed_depths:
            picture = at_depth_of(self._whole, picture)
        check_depths(self._whole, picture)
        seen = picture.exact_luma() if self._gray else picture
        check_comparable(self._seen, seen)
        pair = Pair(self._clean, self.part.crop(seen), self._mask)
        return pair.aligned() if self._align else pair

    def score(
        self,
        test: Picture | Samples | Pair,
        metrics: Named = DEFAULT_METRICS,
        *,
        strict: bool = True,
    ) -> Scores:
        """Scores of a test picture, or of the pair made from it; see `score`.

        If not strict, metrics that the pictures do not suit are left out, as those of `all` are.
        """
        pair = test if isinstance(test, Pair) else self.pair(test)
        steps = parse_figures(metrics, "metric")
        strict = strict and metrics != ALL
        return score_steps(pair, steps, strict=strict, sharing=self._sharing, files=self.files)


def score(
    reference: Picture | Samples,
    test: Picture | Samples,
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
    """
    scorer = Scorer(
        reference, region=region, border=border, mask=mask, gray=gray,
        mixed_depths=mixed_depths, align=align, files=files,
    )  # fmt: skip
    return scorer.score(test, metrics)


def score_steps(
    pair: Pair,
    steps: Sequence[Step],
    *,
    strict: bool = True,
    sharing: Sharing | None = None,
    files: Files | None = None,
) -> Scores:
    """Scores of a pair by metrics that are read already; if not strict, of those that apply."""
    one, two = pair.reference, pair.test
    part, identical = {}, one.same_samples(two)
    if pair.mask is not None:
        part["within"] = within = pair.mask != 0
        identical = np.array_equal(one.samples[within], two.samples[within])
    figures = measured(steps, one, two, strict=strict, sharing=sharing, files=files, **part)
    return Scores(figures, steps, figures.left_out, figures.remarks, identical, pair.shift)


def _plane(mask: Samples, reference: Picture) -> Samples:
    """One plane of a mask; of several channels the largest."""
    plane = np.asarray(mask)
    plane = plane if plane.ndim == 2 else plane.max(axis=2)
    if plane.shape != (reference.height, reference.width):
        raise InputError(
            f"the mask is {plane.shape[1]}x{plane.shape[0]}, {reference.origin} is "
            f"{reference.describe()}: they must have one size"
        )
    return plane
