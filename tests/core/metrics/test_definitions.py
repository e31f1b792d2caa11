"""Every metric against its definition on pictures of every sort."""

from __future__ import annotations

import math

import numpy as np
import pytest

import magnetite
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, Method, every
from magnetite.synthetic.catalogue import SCENES
from slow_metrics import DEFINITIONS

#: For metrics of several scales; for others, an odd part of it.
SIZE, FEW = (181, 178), (93, 90)


def pairs() -> dict[str, tuple[np.ndarray, np.ndarray]]:
    rng = np.random.default_rng(5)
    scene = SCENES[1].picture(*SIZE[::-1], 0)
    rgb, gray = scene.samples, scene.luma().samples

    def worn(x: np.ndarray, sd: float) -> np.ndarray:
        return x + rng.normal(0, sd, x.shape)

    def whole(x: np.ndarray, top: int) -> np.ndarray:
        return np.rint(x.clip(0, top)).astype(np.uint8 if top == 255 else np.uint16)

    # Clear of both ends, so that no noise is clipped: the residual's tests skip such positions.
    inner = 60 + 0.5 * rgb.astype(float)
    quiet = 60 + 0.5 * gray.astype(float)
    planes = np.dstack([inner, quiet, 220 - quiet])
    return {
        "gray": (whole(quiet, 255), whole(worn(quiet, 9), 255)),
        "colour": (whole(inner, 255), whole(worn(inner, 12), 255)),
        "16 bits": (whole(257 * inner, 65535), whole(worn(257 * inner, 1500), 65535)),
        "float": (inner / 255, worn(inner, 5) / 255),
        "beyond 0..1": (quiet / 150 - 0.4, worn(quiet, 20) / 150 - 0.4),
        "identical": (whole(inner, 255), whole(inner, 255)),
        "inverted": (whole(quiet, 255), 255 - whole(quiet, 255)),
        "flat": (np.full(SIZE, 90, np.uint8), np.full(SIZE, 110, np.uint8)),
        "one row": (whole(quiet[:1], 255), whole(worn(quiet[:1], 9), 255)),
        "five planes": (whole(planes, 255), whole(worn(planes, 12), 255)),
    }


PAIRS = pairs()
NEEDS_PLANES = {"sam", "ergas"}
#: Where the definition divides nothing by nothing, or takes a root of what is negative.
WITHOUT_DEFINITION = {("fsim", "flat"), ("iw-ssim", "flat"), ("iw-ssim", "inverted")}
#: Computed in float32; of luma that lies between two levels; of angles near 0.
ROUNDED = {"fsim": 1e-6, "mutual-information": 2e-5, "sam": 1e-6}
CASES = [
    pytest.param(metric.name, sort, id=f"{metric.name}-{sort}")
    for metric in every("metric")
    for sort in PAIRS
    if "delta" not in metric.name
]
#: Metrics that compiled loops compute from some size on; ssim has a test of its own.
LOOPS = ("mse", "mae", "max-error", "snr", "uqi", "vif", "gmsd", "iw-ssim")


@pytest.mark.parametrize(("name", "sort"), CASES)
def test_metrics_are_their_definitions(name: str, sort: str) -> None:
    method = next(m for m in every("metric") if m.name == name)
    rows, columns = SIZE if method.smallest == "176x176" else FEW
    reference, test = (picture[:rows, :columns] for picture in PAIRS[sort])
    scale = {np.dtype(np.uint8): 1, np.dtype(np.uint16): 1 / 257}.get(reference.dtype, 255)
    one, two = (p.astype(float) * scale for p in (reference, test))
    refused = (
        (method.colour is ColourPolicy.LUMA and sort == "five planes")
        or (name in NEEDS_PLANES and one.ndim == 2)
        or (sort == "one row" and method.smallest != "1x1")
    )
    if refused:
        with pytest.raises(PictureError):
            magnetite.score(reference, test, name)
        return
    found = magnetite.score(reference, test, name)[name]
    if (name, sort) in WITHOUT_DEFINITION:
        assert 0 <= found <= 1
        return
    expected = DEFINITIONS[name](one, two)
    if not math.isfinite(expected):
        assert found == expected
        return
    close = ROUNDED.get(name, 1e-9)
    assert found == pytest.approx(expected, rel=close, abs=close)


@pytest.mark.parametrize("name", LOOPS)
def test_metrics_of_large_pictures_are_their_definitions(name: str) -> None:
    reference, test = (np.tile(picture, (2, 3)) for picture in PAIRS["gray"])
    reference, test = reference[1:, :401], test[1:, :401]
    assert reference.size >= WORTH_COMPILING
    found = magnetite.score(reference, test, name)[name]
    expected = DEFINITIONS[name](reference.astype(float), test.astype(float))
    assert found == pytest.approx(expected, rel=ROUNDED.get(name, 1e-9))


@pytest.mark.parametrize("sort", ["colour", "16 bits"])
@pytest.mark.parametrize("method", [*every("metric"), *every("gauge")], ids=lambda m: m.name)
def test_figures_of_whole_numbers_are_those_in_float64(method: Method, sort: str) -> None:
    """The functions take arrays of any type: sums and differences of whole numbers overflow."""
    if method.name.startswith("mtf") or any(p.required for p in method.parameters.values()):
        pytest.skip("needs a straight edge, or a file")
    pictures = [p for p, _ in zip(PAIRS[sort], range(1 + (method.kind == "metric")), strict=False)]
    if method.colour is not ColourPolicy.RGB and method.name not in NEEDS_PLANES:
        pictures = [p[..., 1] for p in pictures]
    peak = float(np.iinfo(pictures[0].dtype).max)
    found, expected = (
        method.function(*(p.astype(kind) for p in pictures), peak)
        for kind in (pictures[0].dtype, np.float64)
    )
    assert found == pytest.approx(expected, rel=1e-9, nan_ok=True)
