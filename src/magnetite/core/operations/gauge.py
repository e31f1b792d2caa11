"""Gauge pictures without a reference."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from magnetite.core.arrays import Samples
from magnetite.core.chain.step import Step
from magnetite.core.edges.slanted_edge import Edge, measure_edge
from magnetite.core.errors import PictureError
from magnetite.core.gauges.noise_level import NoiseCurve, noise_curve
from magnetite.core.methods.context import Files
from magnetite.core.operations.measuring import Figures, measured
from magnetite.core.operations.selection import Named, Selection, selected
from magnetite.core.picture import Picture
from magnetite.core.picture.frame import encoded_remark
from magnetite.core.picture.matching import COMMON_SCALE
from magnetite.core.picture.region import Region, RegionRows
from magnetite.core.picture.rows import UNBOUNDED, Allowance, Rows, as_rows, whole
from magnetite.core.quantities import counted
from magnetite.core.restore.kernels.noise_sd import estimate

DEFAULT_GAUGES = Selection.named("gauge", "laplacian-variance")


def gauge(
    source: Rows | Samples,
    gauges: Named = DEFAULT_GAUGES,
    *,
    region: Region | str | None = None,
    strict: bool = True,
    files: Files | None = None,
    allowance: Allowance = UNBOUNDED,
) -> Figures:
    """Figures of one picture alone, by the gauge's canonical text.

    Parameters
    ----------
    source : Picture or array
    gauges : str or function
        Names with settings, separated by commas; or `all`, which leaves out figures that do not
        apply. A gauge of one's own can be given as its function, as in worker processes.
    region : Region or str, optional
        The part to gauge, as in `120,80,64x48`: left, top, width x height, px.
    strict : bool
        Whether a gauge that the picture does not suit is an error; if not, it is left out.
    files : Files, optional
        Reads files that settings name.
    allowance : Allowance, optional
        Larger pictures are gauged in bands.

    Returns
    -------
    Figures
        Amplitudes are in dn of 8 bits, whatever the picture's depth.

    Raises
    ------
    PictureError
        If the picture's size or colour does not suit a gauge.
    ChainError
        If `gauges` cannot be read.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> magnetite.gauge(ramp, "mean")["mean"]
    99.5
    """
    picture, asked = part_of(source, region), selected(gauges, "gauge")
    found = measured(
        [*asked, *_certainty(asked)], picture, strict=strict and not asked.every, files=files,
        allowance=allowance,
    )  # fmt: skip
    figures = found.only(asked.steps)
    if _OF_EDGES & figures.keys():
        edge = measure_edge(whole(picture))
        remarks = edge.words, *encoded_remark(edge.light, "MTF50 and MTF10")
        figures.remarks += tuple(f"{picture.origin}: {remark}" for remark in remarks)
    figures.remarks += tuple(_intervals(picture, found))
    return figures


#: Gauges of the certainty of edge-width; they share its computation.
_OF_EDGE_WIDTH = ("edge-width-error", "edge-count")


def _certainty(asked: Selection) -> list[Step]:
    """Gauges to be measured besides, for the remarks on those that were asked for."""
    names = set(asked.labels)
    if "edge-width" not in names:
        return []
    return [Step("gauge", name) for name in _OF_EDGE_WIDTH if name not in names]


def _intervals(picture: Rows, figures: Figures) -> Iterator[str]:
    """The intervals of gauges that have one."""
    if "edge-width" in figures:
        error, count = (figures[name] for name in _OF_EDGE_WIDTH)
        edges = counted(round(count), "edge")
        yield f"{picture.origin}: edge-width ± {error:.2g} px (95 %), of {edges}"
    if "noise-blocks" in figures:
        noise = estimate(whole(picture).pixels(), picture.frame.step)
        yield f"{picture.origin}: noise-blocks {noise.words(COMMON_SCALE, 'dn')}"


#: Gauges of an edge that is found automatically: which one is said.
_OF_EDGES = {"mtf50", "mtf10"}


@dataclass(frozen=True)
class GaugeCurves:
    """Noise over signal, in dn of 8 bits, and an edge's transfer; None where there is none."""

    noise: NoiseCurve | None
    edge: Edge | None
    #: Why one is missing.
    remarks: tuple[str, ...] = ()


def gauge_curves(source: Rows | Samples, *, region: Region | str | None = None) -> GaugeCurves:
    """The noise curve of one picture, and the transfer function of its sharpest edge.

    Parameters
    ----------
    source : Picture or array
    region : Region or str, optional
        The part to gauge.
    """
    picture = whole(part_of(source, region))
    remarks = []
    noise = edge = None
    try:
        noise = noise_curve(picture.on_scale(COMMON_SCALE), COMMON_SCALE)
    except PictureError as error:
        remarks.append(f"{picture.origin}: {error}")
    try:
        edge = measure_edge(picture)
    except PictureError as error:
        remarks.append(str(error))
    return GaugeCurves(noise, edge, tuple(remarks))


def part_of(source: Rows | Samples, region: Region | str | None) -> Rows:
    """The region of a picture, if one is given."""
    picture = as_rows(source)
    if region is None:
        return picture
    if isinstance(picture, Picture):
        return Region.of_text(region).crop(picture)
    return RegionRows(picture, region)
