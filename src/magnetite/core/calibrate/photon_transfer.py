"""Noise of a camera from frames of still scenes or flat fields: photon transfer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.calibrate.transfer_line import EstimateRow, PhotonTransfer, transfer
from magnetite.core.errors import InputError, PictureError, check_choice
from magnetite.core.picture import Picture
from magnetite.core.picture.mosaics import PATTERNS, Pattern, colours_of
from magnetite.core.picture.picture import frozen

__all__ = ["EstimateRow", "PhotonTransfer", "photon_transfer"]

#: Chance below which the gains of colours differ.
_LEAST_CHANCE = 1e-3


def photon_transfer(
    frames: Sequence[Picture],
    darks: Sequence[Picture] = (),
    black: float | None = None,
    *,
    pattern: Pattern | None = None,
) -> PhotonTransfer:
    """Fit gain, read noise and, where the frames allow, row and fixed-pattern noise.

    In frames of one still scene the variance from frame to frame grows with the signal as
    `gain (mean - black) + read²` (in dn; shot noise and read noise); patterns that stay cancel
    out, and so does the flicker of the light. A straight line is fitted to the variance at many
    levels of signal, each weighted by its standard error. EMVA Standard 1288, release 4.0,
    section 2; Janesick, Photon Transfer (2007), chapter 5. The frames must be linear. Left out
    are levels within 4 sd of the smallest and the largest sample value, and levels whose noise is
    below 0.6 digital numbers: there rounding no longer adds 1/12 dn² to the variance, whatever
    the noise. So are flat fields that are clipped.

    The black level is that of frames without light, or stated; it is subtracted from every frame in
    float. Without either it can lie anywhere from 0 to the darkest level, and the figures that
    depend on it have intervals that reach over all of these.

    Parameters
    ----------
    frames : sequence of Picture
        Two or more of each still scene or flat field, of one size, depth and colour, in any
        order.
    darks : sequence of Picture
        Frames without light. From two on they also give a level of the line and the DSNU.
    black : float, optional
        Black level, dn, where there are no darks.
    pattern : "rggb", "bggr", "grbg" or "gbrg", optional
        Of raw mosaics. Each colour is then measured on its own, and a flat field may have a level
        for each. Where the gains of the colours differ (chi-square, chance below 0.1 %), the
        figures are those of each colour, and else those of all samples.

    Returns
    -------
    PhotonTransfer
        With 95 % confidence intervals. Those of read noise end at 0 where it cannot
        be distinguished from 0; they have no ends where the line does not describe the camera.

    Raises
    ------
    PictureError
        If frames do not match, have no partner, span too little signal, if rounding hides
        their noise, or if the black level is not where it is said to be.
    InputError
        If the black level is below 0, or the pattern none of the four.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> still = np.tile(np.linspace(2000, 50000, 512).astype(np.uint16), (256, 1))
    >>> noise = "sensor-noise full-well=8000e"
    >>> frames = [magnetite.degrade(still, noise, seed=k).picture for k in range(4)]
    >>> round(magnetite.photon_transfer(frames).gain.value)  # 65535 / 8000 dn for an electron
    8
    """
    if len(frames) < 2:
        raise PictureError("noise is calibrated from two or more frames of a still scene")
    if darks and black is not None:
        raise PictureError("the black level is stated or measured on dark frames, not both")
    if black is not None and not 0 <= black < 1e9:
        raise InputError(f"the black level is {black:g}: it is a level in dn, 0 or more")
    if pattern is None:
        return transfer(frames, darks, black)
    check_choice("pattern", pattern, PATTERNS)
    return _of_mosaic(frames, darks, black, pattern)


def _of_mosaic(
    frames: Sequence[Picture], darks: Sequence[Picture], black: float | None, pattern: Pattern
) -> PhotonTransfer:
    for frame in (*frames, *darks):
        if frame.colour != "gray":
            raise PictureError(f"{frame.origin} is {frame.describe()}, and a mosaic is gray")
    colours, remarks = {}, []
    for number, name in enumerate(("red", "green", "blue")):
        own, without = (
            [_colour(frame, pattern, number) for frame in group] for group in (frames, darks)
        )
        try:
            colours[name] = transfer(own, without, black)
        except PictureError as error:
            remarks.append(f"{name} has no figures of its own: {error}")
    green = colours.get("green")
    if green is None or not _differ([one.gain for one in colours.values()]):
        together = transfer(frames, darks, black, mosaic=True)
        return replace(together, remarks=(*together.remarks, *remarks))
    remarks += [f"{name}: {words}" for name, one in colours.items() for words in one.remarks]
    remarks.append(
        "the gains of the colours differ: read, row and fixed-pattern noise of the step "
        "are those of green"
    )
    return replace(green, colours=colours, pattern=pattern, remarks=tuple(remarks))


def _colour(frame: Picture, pattern: Pattern, number: int) -> Picture:
    """Samples of one colour of a mosaic: both of green as two planes."""
    height, width = (side // 2 * 2 for side in frame.samples.shape)
    planes = [
        frame.samples[down:height:2, across:width:2]
        for (down, across), colour in colours_of(PATTERNS[pattern])
        if colour == number
    ]
    if len(planes) == 1:
        return replace(frame, samples=frozen(planes[0].copy()))
    return replace(frame, samples=frozen(np.stack(planes, axis=-1)), colour="planes")


def _differ(gains: Sequence[Estimate]) -> bool:
    """Whether figures differ by more than their errors explain: chi-square about their mean."""
    values, errors = (np.array([getattr(one, key) for one in gains]) for key in ("value", "error"))
    if len(gains) < 2 or not np.isfinite(errors).all():
        return False
    from scipy.special import chdtrc

    weights = errors**-2.0
    mean = float(weights @ values / weights.sum())
    total = float(weights @ (values - mean) ** 2)
    return float(chdtrc(len(gains) - 1, total)) < _LEAST_CHANCE
