"""How far a picture's statistics are from those of good pictures of the user's own."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.errors import InputError, PictureError
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.methods.parameters import FileName
from magnetite.core.metrics.kernels.moments import halved
from magnetite.core.picture import Picture, luma
from magnetite.core.picture.matching import check_distinct

#: Side of a patch at the finer of both scales, px, and the version of the model's file.
PATCH = 96
KIND, VERSION = "magnetite naturalness model", 1
#: Of a good picture only patches count whose contrast is at least this share of the sharpest's.
_SHARP = 0.75
_SCALES = 2
#: Products of neighbours: down and across, from the first sample to the second.
_PAIRS = ((0, 1), (1, 0), (1, 1), (1, -1))
_NAMES = ("shape", "width", *(
    f"{pair}-{property}"
    for pair in ("across", "down", "diagonal", "counter-diagonal")
    for property in ("shape", "mean", "left", "right")
))  # fmt: skip
FEATURES = tuple(f"{name}-{scale}" for scale in ("fine", "coarse") for name in _NAMES)


@dataclass(frozen=True)
class Model:
    """Mean, shape (36,), and covariance, shape (36, 36), of the features of good patches."""

    mean: Float64
    covariance: Float64
    patches: int
    pictures: int

    def as_record(self) -> dict[str, Any]:
        """The model as a JSON object; see docs/metrics.md."""
        return {
            "kind": KIND, "version": VERSION, "patch": PATCH,
            "pictures": self.pictures, "patches": self.patches, "features": list(FEATURES),
            "mean": self.mean.tolist(), "covariance": self.covariance.tolist(),
        }  # fmt: skip

    @classmethod
    def of(cls, record: Mapping[str, Any]) -> Model:
        """Read a model; raises `InputError` where the object is none."""
        if (record.get("kind"), record.get("version")) != (KIND, VERSION):
            raise InputError(
                f"no {KIND} of version {VERSION}; `magnetite calibrate naturalness` writes one"
            )
        try:
            mean = np.array(record["mean"], np.float64)
            covariance = np.array(record["covariance"], np.float64)
            counts = int(record["patches"]), int(record["pictures"])
        except (KeyError, TypeError, ValueError) as error:
            raise InputError(f"the {KIND} is damaged: {error}") from None
        size = len(FEATURES)
        fits = mean.shape == (size,) and covariance.shape == (size, size)
        if not fits or not (np.isfinite(mean).all() and np.isfinite(covariance).all()):
            raise InputError(f"the {KIND} is damaged: it needs {size} finite features")
        return cls(mean, covariance, *counts)


def fit_naturalness(pictures: Iterable[Picture]) -> Model:
    """Fit the model of good pictures: mean and covariance of the features of their sharp patches.

    A patch counts where its mean local sd is more than 0.75 of the largest in its picture.

    Raises
    ------
    PictureError
        If a picture has no patch of 96x96 with any texture, or all together have fewer than 40.
    InputError
        If two pictures hold the same samples: their patches would count twice.

    Examples
    --------
    >>> import magnetite
    >>> model = magnetite.fit_naturalness(magnetite.scenes().values())
    >>> model.mean.shape
    (36,)
    """
    found = []
    for picture in check_distinct(pictures, "pictures"):
        plane = np.asarray(luma(picture.on_scale(255.0)), np.float64)
        features, contrast = _features(plane, picture.origin)
        found.append(features[contrast > _SHARP * contrast.max()])
    rows = np.concatenate(found) if found else np.empty((0, len(FEATURES)))
    if len(rows) <= len(FEATURES) + 3:
        raise PictureError(
            f"{len(rows)} sharp patches of {PATCH}x{PATCH} px are too few for a model of "
            f"{len(FEATURES)} features: give more or larger pictures"
        )
    return Model(rows.mean(axis=0), np.cov(rows, rowvar=False), len(rows), len(found))


@gauge(
    "naturalness",
    summary="Distance of the picture's statistics from those of your own good pictures; less is "
    "better.",
    colour=ColourPolicy.LUMA,
    source="Mittal, Soundararajan and Bovik, IEEE Signal Processing Letters 20(3), 2013, "
    "doi:10.1109/LSP.2012.2227726",
    unit="",
    values="0 and up",
    smallest="192x96",
)
def naturalness(
    pixels: Pixels,
    peak: float = 1.0,
    *,
    model: Annotated[
        Any,
        FileName("model.json", "record"),
        "model of a set of pictures, as `fit_naturalness` makes it",
    ],
) -> float:
    """`√((m1 - m2)ᵀ ((C1 + C2) / 2)⁻¹ (m1 - m2))` of features' means and covariances, on luma.

    Luma on the scale of 8 bits is normalised to `(x - m) / (s + 1)`, m and s the local mean
    and sd under Gaussian weights of 7x7 and sd 7/6 px, mirrored at the edges. Each patch of
    96x96 px gives shape and width of a generalised Gaussian, and shape, mean and both widths of
    the products of neighbours in four directions; the same again for 2x2 means. Index 1 is the
    model, index 2 the patches of the picture; patches without any texture are left out.

    Comparable under one model only. Raises `PictureError` where fewer than two patches with
    texture fit into the picture, `InputError` where the model is none.
    """
    good = Model.of(model)
    features, _ = _features(np.asarray(pixels * (255 / peak), np.float64), "the picture")
    if len(features) < 2:
        raise PictureError(f"naturalness needs two patches of {PATCH}x{PATCH} px with texture")
    apart = features.mean(axis=0) - good.mean
    spread = (good.covariance + np.cov(features, rowvar=False)) / 2
    return math.sqrt(max(0.0, float(apart @ np.linalg.pinv(spread, hermitian=True) @ apart)))


def _features(plane: Float64, origin: str) -> tuple[Float64, Float64]:
    """Features of each patch with texture, shape (n, 36), and its mean local sd."""
    rows, columns = plane.shape[0] // PATCH, plane.shape[1] // PATCH
    if rows * columns == 0:
        raise PictureError(f"naturalness needs {PATCH}x{PATCH} px; {origin} is smaller")
    plane = plane[: rows * PATCH, : columns * PATCH]
    scales, contrast = [], np.zeros(rows * columns)
    for scale in range(_SCALES):
        plane = np.asarray(halved(plane)) if scale else plane
        normal, spread = normalised(plane)
        if scale == 0:
            contrast = _patches(spread, rows, columns).mean(axis=(1, 2))
        scales.append(_of_patches(_patches(normal, rows, columns)))
    features = np.concatenate(scales, axis=1)
    held = np.isfinite(features).all(axis=1)
    if not held.any():
        raise PictureError(f"naturalness: {origin} is flat; it has no statistics")
    return features[held], contrast[held]


def normalised(plane: Float64) -> tuple[Float64, Float64]:
    """Luminance, shape (h, w), less its local mean over its local sd plus 1, and the local sd."""
    from scipy.ndimage import correlate1d

    weights = gaussian_kernel(7 / 6, radius=3)

    def smooth(values: Float64) -> Float64:
        rows = correlate1d(values, weights, axis=0, mode="reflect")
        return np.asarray(correlate1d(rows, weights, axis=1, mode="reflect"))

    mean = smooth(plane)
    spread = np.sqrt((smooth(plane * plane) - mean * mean).clip(0, None))
    return (plane - mean) / (spread + 1), spread


def _patches(plane: Float64, rows: int, columns: int) -> Float64:
    """All patches, shape (rows * columns, side, side)."""
    side = plane.shape[0] // rows
    cut = plane.reshape(rows, side, columns, side).swapaxes(1, 2)
    return cut.reshape(rows * columns, side, side)


def _of_patches(patches: Float64) -> Float64:
    """The 18 features of one scale, a row for each patch; NaN where it has no texture."""
    shape, left, right, _ = asymmetric_gaussian(patches)
    columns = [shape, (left + right) / 2]
    side = patches.shape[1]
    for down, across in _PAIRS:
        first = patches[:, : side - down, max(0, -across) : side - max(0, across)]
        second = patches[:, down:, max(0, across) : side - max(0, -across)]
        shape, left, right, mean = asymmetric_gaussian(first * second)
        columns += [shape, mean, left, right]
    return np.stack(columns, axis=1)


_SHAPES = np.arange(0.2, 10.001, 0.001)


def asymmetric_gaussian(samples: Float64) -> tuple[Float64, Float64, Float64, Float64]:
    """Shape, left and right width, and mean of an asymmetric generalised Gaussian, by moments.

    Of samples of shape (m, n), each result of shape (m,); NaN where all samples are 0.

    Source: Lasmar, Stitou and Berthoumieu, IEEE ICIP 2009, as used by Mittal et al. (2013).
    """
    from scipy.special import gamma

    flat = samples.reshape(len(samples), -1)
    below, above = flat < 0, flat > 0
    squares = flat * flat
    with np.errstate(invalid="ignore", divide="ignore"):
        left = np.sqrt((squares * below).sum(axis=1) / below.sum(axis=1))
        right = np.sqrt((squares * above).sum(axis=1) / above.sum(axis=1))
        skew = left / right
        ratio = np.abs(flat).mean(axis=1) ** 2 / squares.mean(axis=1)
        ratio = ratio * (skew**3 + 1) * (skew + 1) / (skew**2 + 1) ** 2
    expected = gamma(2 / _SHAPES) ** 2 / (gamma(1 / _SHAPES) * gamma(3 / _SHAPES))
    shape = np.interp(ratio, expected, _SHAPES)
    width = np.sqrt(gamma(1 / shape) / gamma(3 / shape))
    left, right = left * width, right * width
    return shape, left, right, (right - left) * gamma(2 / shape) / gamma(1 / shape)
