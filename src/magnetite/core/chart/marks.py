"""Find a chart in a picture: five marks, then the dots between them."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Bools, Float64, Indices, Int32
from magnetite.core.chart.design import Chart
from magnetite.core.chart.mapping import Mapping, fit_mapping, homographies, projected
from magnetite.core.errors import PictureError

#: Width, px, that marks are looked for at, and the windows of the local mean, shares of it.
_WIDTH, _WINDOWS = 1200, (0.05, 0.1, 0.2)
#: Of a mark: area of the dark disk over that of the light one; the ring's area over its box's;
#: sides of the box; distance of the centres over the ring's size.
_SHARES, _FILLED, _SIDES, _OFF = (0.1, 0.45), (0.65, 0.92), 1.7, 0.1
#: Smallest area of a dark disk, px; candidates that are kept.
_LEAST_AREA, _CANDIDATES = 12, 10
#: Distance of a mark from its position, a share of the chart's width, that still counts.
_NEAR = 0.03
#: Darkness of a dot that is measured: a share of its surroundings' light, and standard errors;
#: share of the window's area that is its middle.
_FAINT, _SURE, _MIDDLE = 0.04, 4.0, 0.1
#: Darkness of a dot's middle against its surroundings, and share of dots that must be seen.
_DARKER, _SEEN = 0.9, 0.5
#: Mappings of marks whose dots are looked at.
_TRIED = 60
#: Radius of the window of a mark's inner disk, within its light ring, a share of a cell.
_MARK_WINDOW = 0.33
#: Largest coordinate of a position in a picture, px.
_FARTHEST = 1e7
#: Window of a dot's centroid: its radius, a share of a cell, and that in its sd; steps that it is
#: moved at most, and their length in those of the centroid.
_WINDOW, _WINDOW_SDS, _FOLLOWED, _STEP = 0.17, 2.4, 40, 1.5
#: Residual of a dot beyond which it is left out: times the median, and px at least.
_OUTLIER = 5.0, 0.1


@dataclass(frozen=True)
class Found:
    """Position of a chart in a picture."""

    mapping: Mapping
    #: Dots that were used: their numbers, chart positions and measured positions.
    dots: Indices
    chart_points: Float64
    seen: Float64
    #: rms distance of the dots from the mapping, px; standard error of the distortion, %.
    residual: float
    distortion_error: float
    notes: tuple[str, ...] = ()


def find(plane: Float64, chart: Chart) -> Found:
    """Find the marks and dots of a chart.

    Marks are rings, lighter than their surroundings, around a dark disk with the same centre: they
    are found at any rotation and at scales down to about 1:3. Which ring is which mark is decided
    by the mapping under which most marks and dots are where they should be.

    Parameters
    ----------
    plane : float array, shape (h, w)
        Gray samples.
    chart : Chart

    Returns
    -------
    Found

    Raises
    ------
    PictureError
        If no chart is found, marks are missing, or the chart is turned or mirrored.
    """
    candidates = _candidates(plane)
    homography, notes = _identified(candidates, chart, plane)
    height, width = plane.shape
    mapping = Mapping(homography, 0.0, 0.0, width, height)
    _check_upright(mapping, chart)
    located = [[dot.x, dot.y] for dot in chart.dots] + [[mark.x, mark.y] for mark in chart.marks]
    points = np.array(located)
    dots = len(chart.dots)
    for _ in range(2):
        numbers, seen = _centres(plane, mapping, points, chart)
        count = int((numbers < dots).sum())
        if count < _SEEN * dots:
            raise PictureError(
                f"the marks of the chart were found, but only {count} of its {dots} "
                "dots: is the record that of another chart, or is the picture too blurred or noisy?"
            )
        used = np.arange(len(numbers))
        for _ in range(3):
            mapping, _, errors = fit_mapping(
                points[numbers[used]], seen[used], mapping.homography, (width, height)
            )
            away = np.hypot(*(mapping(points[numbers]) - seen).T)
            limit = max(_OUTLIER[0] * float(np.median(away)), _OUTLIER[1])
            used = np.flatnonzero(away <= limit)
    used = used[numbers[used] < dots]
    if missing := dots - len(used):
        notes = (*notes, f"{missing} of {dots} dots were not found or not used")
    return Found(
        mapping, numbers[used], points[numbers[used]], seen[used], float(errors[1]),
        float(errors[0]), notes,
    )  # fmt: skip


def _candidates(plane: Float64) -> Float64:
    """Centres of rings around dark disks, shape (n, 2), px; the largest first."""
    from scipy import ndimage

    step = max(1, round(plane.shape[1] / _WIDTH))
    height, width = (n // step * step for n in plane.shape)
    small = plane[:height, :width].reshape(height // step, step, width // step, step)
    small = ndimage.gaussian_filter(small.mean(axis=(1, 3)), 1.0)
    found: list[tuple[float, float, float]] = []
    for share in _WINDOWS:
        mean = ndimage.uniform_filter(small, max(9, round(share * small.shape[1])))
        for area, x, y in _rings(small > mean):
            if all(math.hypot(x - a, y - b) > 3 for _, a, b in found):
                found.append((area, x, y))
    found.sort(reverse=True)
    centres = np.array([[x, y] for _, x, y in found[:_CANDIDATES]]).reshape(-1, 2)
    return np.asarray((centres + 0.5) * step)


def _rings(light: Bools) -> list[tuple[float, float, float]]:
    """Area and centre of each light ring that holds a dark disk with the same centre."""
    (dark, dark_boxes, dark_areas), (ring, ring_boxes, ring_areas) = (
        _components(mask, corners) for mask, corners in ((~light, False), (light, True))
    )
    rings = []
    for k in np.flatnonzero(dark_areas >= _LEAST_AREA):
        rows, columns = dark_boxes[k]
        if rows.start < 1 or not _is_box(rows, columns):
            continue
        disk = dark[rows, columns] == k + 1
        # The component directly above the disk's first row surrounds it, if it is a ring.
        around = int(ring[rows.start - 1, columns.start + int(np.argmax(disk[0]))]) - 1
        if around < 0 or not _is_box(*ring_boxes[around]):
            continue
        filled = int(ring_areas[around] + dark_areas[k])
        share = filled / math.prod(side.stop - side.start for side in ring_boxes[around])
        if not (
            _SHARES[0] < dark_areas[k] / filled < _SHARES[1] and _FILLED[0] < share < _FILLED[1]
        ):
            continue
        inner = _centre(disk, rows, columns)
        outer = _centre(ring[ring_boxes[around]] == around + 1, *ring_boxes[around])
        if math.dist(inner, outer) < _OFF * math.sqrt(filled):
            rings.append((float(filled), *inner))
    return rings


def _components(mask: Bools, corners: bool) -> tuple[Int32, list[tuple[slice, slice]], Indices]:
    """Labels from 1 on, boxes and areas of the connected parts of a mask, also over corners."""
    from scipy import ndimage

    labels, count = ndimage.label(mask, np.ones((3, 3)) if corners else None)
    return (
        labels,
        ndimage.find_objects(labels),
        np.bincount(labels.ravel(), minlength=count + 1)[1:],
    )


def _is_box(rows: slice, columns: slice) -> bool:
    tall, wide = rows.stop - rows.start, columns.stop - columns.start
    return bool(max(tall, wide) <= _SIDES * min(tall, wide))


def _centre(mask: Bools, rows: slice, columns: slice) -> tuple[float, float]:
    y, x = np.nonzero(mask)
    return columns.start + float(x.mean()), rows.start + float(y.mean())


def _identified(
    candidates: Float64, chart: Chart, plane: Float64
) -> tuple[Float64, tuple[str, ...]]:
    """The homography that most marks, then most dots agree with, and a note on missing marks."""
    if len(candidates) < 4:
        raise PictureError(
            f"no chart was found: {len(candidates)} of its 5 marks are visible, and it takes 4 "
            "(is it cut off, too blurred, too small, or another chart?)"
        )
    made = _hypotheses(candidates, chart)
    marks = np.array([[mark.x, mark.y] for mark in chart.marks])
    with np.errstate(divide="ignore", invalid="ignore"):
        shown = projected(made[:, np.newaxis], marks)
    away = np.linalg.norm(shown[:, :, np.newaxis] - candidates, axis=3).min(axis=2)
    away /= np.linalg.norm(shown[:, 1] - shown[:, 0], axis=1)[:, np.newaxis]
    seen = away < _NEAR
    order = np.lexsort((np.where(seen, away, 0).sum(axis=1), -seen.sum(axis=1)))[:_TRIED]
    scores = [(int(seen[k].sum()), _visible_dots(plane, made[k], chart)) for k in order]
    if not scores or max(score[1] for score in scores) < _SEEN / 2:
        raise PictureError(
            f"no chart was found: {len(candidates)} rings look like marks, but no 4 of them are "
            "where the chart has its marks and dots (is it cut off, or another chart?)"
        )
    best = max(range(len(scores)), key=lambda k: scores[k][1] * scores[k][0])
    made_best, best_seen = made[order[best]], seen[order[best]]
    names = ("top left", "top right", "bottom right", "bottom left", "inner left")
    missing = [name for name, seen in zip(names, best_seen, strict=True) if not seen]
    notes = (f"the {missing[0]} mark was not found",) if missing else ()
    return made_best, notes


def _hypotheses(candidates: Float64, chart: Chart) -> Float64:
    """Homographies that bring any four marks to any four candidates, if they are plausible."""
    marks = np.array([[mark.x, mark.y] for mark in chart.marks])
    orders = np.array(list(itertools.permutations(range(len(candidates)), 4)))
    every = [
        homographies(marks[list(four)], candidates[orders])
        for four in itertools.combinations(range(len(marks)), 4)
    ]
    made = np.concatenate(every)
    return np.asarray(made[_plausible(made, chart)])


def _plausible(made: Float64, chart: Chart) -> Bools:
    """Whether each homography shows the whole chart from its front or back, not too obliquely."""
    corners = np.array(
        [[0, 0, 1], [chart.width, 0, 1], [chart.width, chart.height, 1], [0, chart.height, 1.0]]
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        weights = made[:, 2] @ corners.T
        ahead = (weights > 0).all(axis=1) & (weights.max(axis=1) < 2 * weights.min(axis=1))
        shown = (made @ corners.T)[:, :2] / weights[:, np.newaxis]
        sides = np.linalg.norm(shown - np.roll(shown, -1, axis=2), axis=1)
        across, down = sides[:, 0] + sides[:, 2], sides[:, 1] + sides[:, 3]
        shape = across / down * (chart.height / chart.width)
        return np.asarray(ahead & (shape > 0.6) & (shape < 1.7))


def _visible_dots(plane: Float64, homography: Float64, chart: Chart) -> float:
    """Share of the dots that are darker than the background around them."""
    points = np.array([[dot.x, dot.y] for dot in chart.dots])
    around = np.array([[1, 0], [0, 1], [-1, 0], [0, -1.0]]) * 2 * chart.dots[0].radius
    every = projected(homography, points[:, np.newaxis] + np.vstack([[[0, 0.0]], around]))
    size = np.array(plane.shape[::-1])
    inside = np.flatnonzero(np.all((every >= 0) & (every < size), axis=(1, 2)))
    if inside.size == 0:
        return 0.0
    column, row = every[inside].astype(int).transpose(2, 0, 1)
    light = plane[row, column]
    darker = light[:, 0] < _DARKER * light[:, 1:].mean(axis=1)
    return int(np.count_nonzero(darker)) / len(points)


def _check_upright(mapping: Mapping, chart: Chart) -> None:
    middle = np.array([chart.width / 2, chart.height / 2])
    if np.linalg.det(mapping.homography) < 0:
        raise PictureError("the chart is mirrored: mirror the picture, then measure it")
    degrees = math.degrees(mapping.turn(middle))
    if abs(degrees) > 45:
        words = "upside down" if abs(degrees) > 135 else "on its side"
        raise PictureError(
            f"the chart is {words} (turned by {degrees:.0f} degrees): turn the picture, then "
            "measure it"
        )


def _centres(
    plane: Float64, mapping: Mapping, points: Float64, chart: Chart
) -> tuple[Indices, Float64]:
    """Numbers and centres of the dots, then the marks, that are seen."""
    numbers, seen = [], []
    for k, point in enumerate(points):
        radius = _WINDOW if k < len(chart.dots) else _MARK_WINDOW
        centre = centroid(plane, mapping(point), radius * chart.cell * mapping.scale(point))
        if centre is not None:
            numbers.append(k)
            seen.append(centre)
    return np.array(numbers, int), np.array(seen).reshape(-1, 2)


def dot_centre(plane: Float64, mapping: Mapping, point: Float64, chart: Chart) -> Float64 | None:
    """Centre of the dot at a chart position, px of the picture; None where there is none."""
    return centroid(plane, mapping(point), _WINDOW * chart.cell * mapping.scale(point))


def centroid(plane: Float64, start: Float64, radius: float) -> Float64 | None:
    """Centre (x, y) of a dot: the centroid of its darkness under a Gaussian window centred on it.

    `plane` has shape (h, w), `start` (2,); `radius` is that of the window, px, 2.4 of its sd. The
    window follows the centroid until they agree, so that noise and neighbouring elements weigh
    little. None without a dot.
    """
    centre = start
    if not (np.isfinite([*start, radius]).all() and np.abs([*start, radius]).max() < _FARTHEST):
        return None
    for _ in range(_FOLLOWED):
        (left, top), (right, bottom) = (
            np.floor(centre - radius).astype(int), np.ceil(centre + radius).astype(int)
        )  # fmt: skip
        if min(left, top) < 0 or right > plane.shape[1] or bottom > plane.shape[0]:
            return None
        part = plane[top:bottom, left:right]
        x, y = np.arange(left, right) + 0.5, np.arange(top, bottom)[:, np.newaxis] + 0.5
        square = ((x - centre[0]) ** 2 + (y - centre[1]) ** 2) / radius**2
        rim = part[(square > 0.5) & (square <= 1)]
        light, middle = float(np.median(rim)), part[square < _MIDDLE]
        dark = light - part
        least = max(_FAINT * light, _SURE * float(rim.std()) / math.sqrt(max(1, middle.size)))
        if middle.size == 0 or light - float(middle.mean()) < least:
            return None
        window = np.where(square <= 1, np.exp(-0.5 * square * _WINDOW_SDS**2), 0)
        weighted = dark * window
        moved = np.array([(weighted * x).sum(), (weighted * y).sum()]) / weighted.sum() - centre
        centre = centre + _STEP * moved
        if np.hypot(*(centre - start)) > radius:
            return None
        if np.hypot(*moved) < 1e-5:
            break
    return centre
