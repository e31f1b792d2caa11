"""Noise whose strength follows from the signal: photons, coherent light, whole sensors."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Annotated, Any, Literal

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.compute.random import BandGenerator, draw, fill, normal, rows_of
from magnetite.core.degrade.certify.photons import SensorSurvey, survey_poisson, survey_speckle
from magnetite.core.degrade.mosaic import StatedPattern
from magnetite.core.errors import PictureError
from magnetite.core.methods.amplitudes import Electrons
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Count, Number, Share
from magnetite.core.picture.mosaics import PATTERNS, colours_of


@degradation(
    "poisson-noise",
    summary="Replace every sample by a Poisson count of photons: shot noise alone.",
    colour=ColourPolicy.JOINT,
    source="Janesick, Photon Transfer (2007), chapter 3, doi:10.1117/3.725073",
    survey=survey_poisson,
    reach=0,
    draws_by="chunk",
)
def poisson_noise(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    photons: Annotated[
        float,
        Number(1, 1e9),
        "mean count at full scale; the signal-to-noise ratio there is its root",
    ],
) -> Pixels:
    """Replace x by `k / photons`, k a Poisson count of mean `photons x`.

    Samples below 0 count as 0. Not clipped.
    """

    def count(child: np.random.Generator, piece: Samples, out: Samples) -> None:
        out[:] = child.poisson(piece.clip(0, None) * np.float64(photons)) / photons

    return _transformed(pixels, rng, count)


@degradation(
    "speckle",
    summary="Multiply every sample by a random factor of mean 1.",
    colour=ColourPolicy.JOINT,
    source="Goodman, Speckle Phenomena in Optics, 2nd ed. (2020), chapter 4, doi:10.1117/3.2548484",
    survey=survey_speckle,
    reach=0,
    draws_by="shape",
)
def speckle(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    contrast: Annotated[float, Share(), "standard deviation of the factor"],
    distribution: Annotated[Literal["gamma", "gaussian"], "distribution of the factor"] = "gamma",
) -> Pixels:
    """Multiply by a factor of mean 1 and standard deviation `contrast`.

    A gamma factor of shape `1 / contrast²` is intensity speckle averaged over as many looks;
    contrast 1 is fully developed speckle. Not clipped.
    """
    if contrast == 0:
        return pixels.copy()
    looks = contrast**-2

    def factor(child: np.random.Generator, out: Samples) -> None:
        if distribution == "gamma":
            child.standard_gamma(looks, out=out, dtype=np.float32)
            out /= np.float32(looks)
        else:
            normal(child, out)
            out *= np.float32(contrast)
            out += np.float32(1)

    return pixels * draw(rng, pixels.shape, factor)


#: Electrons at full scale of one colour of a sensor.
ColourWell = Annotated[
    float | None,
    Electrons(1, 1e9),
    "electrons at full scale of this colour, of a gain of its own; full-well if left out",
]


def electrons_at_full_scale(
    shape: tuple[int, ...],
    first_row: int = 0,
    *,
    full_well: float,
    full_well_red: float | None,
    full_well_blue: float | None,
    pattern: StatedPattern,
) -> Float64:
    """Full wells of a picture's samples, of a shape that can be broadcast to the picture's.

    Raises
    ------
    PictureError
        If red or blue has one of its own, and the picture has no such colours.
    """
    if full_well_red is None and full_well_blue is None:
        return np.array(full_well)
    wells = np.array([full_well_red or full_well, full_well, full_well_blue or full_well])
    if len(shape) == 3 and shape[2] == 3:
        return wells
    if len(shape) == 3 or pattern is None:
        raise PictureError(
            "sensor-noise with a full well for red or blue takes RGB, or a mosaic whose pattern= "
            "is stated"
        )
    square = np.empty((2, 2))
    for position, colour in colours_of(PATTERNS[pattern]):
        square[position] = wells[colour]
    height, width = shape
    rows, columns = (first_row + np.arange(height)) % 2, np.arange(width) % 2
    return square[np.ix_(rows, columns)]


def _survey_sensor(
    before: Pixels, *, read: float, prnu: float, dsnu: float, row: float, sensor: int, **wells: Any
) -> SensorSurvey:
    return SensorSurvey(partial(electrons_at_full_scale, **wells), read, prnu, dsnu, row)


@degradation(
    "sensor-noise",
    summary="Shot, read, row and fixed-pattern noise of an image sensor, in electrons.",
    colour=ColourPolicy.JOINT,
    source="EMVA Standard 1288, release 4.0 (2021), sections 2 and 4; Janesick, Photon Transfer "
    "(2007), doi:10.1117/3.725073",
    survey=_survey_sensor,
    reach=0,
    draws_by="chunk",
    linear=True,
)
def sensor_noise(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    full_well: Annotated[
        float,
        Electrons(1, 1e9),
        "electrons at full scale: full scale in dn over the gain in dn per electron",
    ],
    read: Annotated[
        float, Electrons(0, 1e6, per="full-well"), "standard deviation of the read noise"
    ] = 0.0,
    prnu: Annotated[float, Share(), "standard deviation of the gain, of the signal"] = 0.0,
    dsnu: Annotated[
        float, Electrons(0, 1e6, per="full-well"), "standard deviation of the offset"
    ] = 0.0,
    row: Annotated[
        float,
        Electrons(0, 1e6, per="full-well"),
        "standard deviation of the rows' offsets, new in every picture",
    ] = 0.0,
    sensor: Annotated[
        int, Count(0, 999_999), "number of the sensor, which sets the fixed pattern"
    ] = 0,
    full_well_red: ColourWell = None,
    full_well_blue: ColourWell = None,
    pattern: StatedPattern = None,
) -> Pixels:
    """Photograph x again: `(k + read n + dsnu d + row r) / full_well`.

    k is a Poisson count of mean `full_well x (1 + prnu g)`; n, d, g normal for every sample, r
    normal for every row. g and d are the sensor's own: they are the same for every seed and every
    picture of one size, and change with `sensor` alone. Samples below 0 count as 0. Not clipped.
    Raises `PictureError` where red or blue has a full well of its own, and the picture has no such
    colours.
    """
    wells = electrons_at_full_scale(
        pixels.shape, full_well=full_well, full_well_red=full_well_red,
        full_well_blue=full_well_blue, pattern=pattern,
    ).astype(np.float32)  # fmt: skip
    electrons = np.multiply(pixels, wells, dtype=np.float32, order="C").clip(0, None)
    if prnu:
        gain = _pattern("prnu", sensor, pixels.shape, rng)
        electrons = (electrons * (1 + np.float32(prnu) * gain)).clip(0, None)

    def expose(child: np.random.Generator, piece: Samples) -> None:
        counts = child.poisson(piece.astype(np.float64))
        piece[:] = counts
        if read:
            piece += np.float32(read) * child.standard_normal(piece.size, dtype=np.float32)

    fill(rng, [electrons.reshape(-1)], expose)
    if dsnu:
        electrons += np.float32(dsnu) * _pattern("dsnu", sensor, pixels.shape, rng)
    if row:
        rows = (pixels.shape[0], *(1,) * (pixels.ndim - 1))
        electrons += np.float32(row) * draw(rng, rows, normal)
    electrons /= wells
    return electrons.astype(pixels.dtype, copy=False)


def _pattern(name: str, sensor: int, shape: tuple[int, ...], rng: np.random.Generator) -> Samples:
    """A fixed pattern of a sensor, which no other setting changes, for the rows that `rng` has."""
    height, *others = shape
    if isinstance(rng, BandGenerator):
        height = rng.total
    seeds = np.random.default_rng([sensor, *name.encode(), height, *others])
    return draw(rows_of(seeds, rng), shape, normal)


def _transformed(
    pixels: Pixels, rng: np.random.Generator, sampler: Callable[..., object]
) -> Pixels:
    """The samples after `sampler(generator, piece, out)`."""
    source = np.ascontiguousarray(pixels, np.float32)
    out = np.empty_like(source)
    fill(rng, [source.reshape(-1), out.reshape(-1)], sampler)
    return out.astype(pixels.dtype, copy=False)
