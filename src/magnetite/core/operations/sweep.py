"""Sweep: the same picture at several values of one or two settings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import dropwhile
from threading import local
from typing import Any

from magnetite.core.arrays import Samples
from magnetite.core.chain.bind import ReadOnce
from magnetite.core.chain.notation import parse_sweep
from magnetite.core.chain.step import KNOWN, Chain, Step
from magnetite.core.compute.threads import each
from magnetite.core.errors import ChainError, InputError
from magnetite.core.methods.context import Files
from magnetite.core.operations.degrade import KINDS, degrade, degrade_chain
from magnetite.core.operations.score import Scorer
from magnetite.core.operations.selection import Named, Selection, score_column, selected
from magnetite.core.operations.treatment import Kept, treat
from magnetite.core.picture import Picture, as_picture
from magnetite.core.picture.matching import check_comparable
from magnetite.core.quantities import Quantity
from magnetite.core.table import Table, Tabular


@dataclass(frozen=True)
class Axis:
    """A setting that is swept, and its values as they are written."""

    name: str
    values: tuple[str, ...]


@dataclass(frozen=True)
class Swept:
    """One picture of a sweep."""

    #: Canonical text of the chain.
    chain: str
    #: Where it stands on each axis.
    position: tuple[int, ...]
    picture: Picture = field(repr=False)
    #: Bytes of the file of the last codec, and its rate.
    bytes: int | None
    bpp: float | None
    scores: dict[str, float]


@dataclass(frozen=True, repr=False)
class Sweep(Tabular):
    """Pictures over one or two settings, and their scores."""

    #: The chain with its lists, as it was written.
    text: str
    source: Picture = field(repr=False)
    reference: Picture = field(repr=False)
    axes: tuple[Axis, ...]
    cells: tuple[Swept, ...]
    scored: Selection
    #: Metrics that do not suit all pictures, with the reason.
    left_out: dict[str, str]

    @property
    def metrics(self) -> tuple[str, ...]:
        """Canonical texts of the metrics."""
        return tuple(self.scored.labels)

    def settings(self, cell: Swept) -> list[str]:
        """The values of a picture on each axis, as in `step=5dn`."""
        return [
            f"{axis.name}={axis.values[k]}"
            for axis, k in zip(self.axes, cell.position, strict=True)
        ]

    def rows(self) -> list[tuple[Any, ...]]:
        """A row for each picture: values of the axes, rate, bytes, scores."""
        return [
            (
                *(axis.values[k] for axis, k in zip(self.axes, cell.position, strict=True)),
                cell.bpp, cell.bytes, *(cell.scores.get(metric) for metric in self.metrics),
            )
            for cell in self.cells
        ]  # fmt: skip

    def table(self) -> Table:
        """The rows with their columns."""
        axes = [axis.name for axis in self.axes]
        scores = [score_column(step) for step in self.scored]
        return Table.of([*axes, "bpp", "bytes", *scores], self.rows())


def sweep(
    source: Picture | Samples,
    chain: str | Sequence[str],
    *,
    reference: Picture | Samples | None = None,
    metrics: Named = "psnr,ssim",
    seed: int = 0,
    files: Files | None = None,
    most: int = 40,
) -> Sweep:
    """Treat a picture by a chain at every value of one or two settings.

    Parameters
    ----------
    source : Picture or array
    chain : str
        Degradations, then codecs and restorations, with lists or ranges, as in
        `dct step=5dn,10dn,20dn` or `gaussian-noise sd=8dn + nl-means sd=4dn,8dn,16dn`; a
        restoration may take `sd=known`, the sd in the certificate of the noise.
    reference : Picture or array, optional
        Reference of the scores; the source if left out.
    metrics : str
        As `score` takes them; metrics that do not suit the pictures are left out, with a reason.
    seed : int
        Of the degradations.
    files : Files, optional
        Reads files that settings name.
    most : int
        Pictures that a sweep may have.

    Raises
    ------
    ChainError
        If the chain cannot be read, or a degradation follows a restoration.
    InputError
        If more than two settings, or more pictures than `most` are swept.
    PictureError
        If source and reference do not match, or do not suit a step.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> swept = magnetite.sweep(ramp, "offset by=1dn,2dn,4dn", reference=ramp, metrics="mse")
    >>> [row[-1] for row in swept.rows()]
    [1.0, 4.0, 16.0]
    """
    picture = as_picture(source)
    clean = picture if reference is None else as_picture(reference)
    check_comparable(clean, picture)
    chains, asked = parse_sweep(chain, *KINDS, known=True), selected(metrics, "metric")
    if len(chains) > most:
        raise InputError(f"the sweep has {len(chains)} pictures; at most {most} are drawn")
    axes, positions = _axes(chains)
    parts = [_parted(one) for one in chains]
    read, own = ReadOnce(files), local()
    stated = any(rest.takes_known for _, rest in parts)
    degraded = {
        str(first): _degraded(picture, first, seed, read, stated=stated) for first, _ in parts
    }
    kept = {text: Kept() for text in degraded}
    left_out: dict[str, str] = {}

    def work(number: int) -> Swept:
        first, rest = (str(parts[number][0]), parts[number][1])
        before, known = degraded[first]
        made, size, _ = treat(before, rest, known, read, kept[first])
        if not hasattr(own, "scorer"):
            own.scorer = Scorer(clean, files=files)
        scores = own.scorer.score(made, asked, strict=False)
        left_out.update(scores.left_out)
        bpp = None if size is None else made.frame.bpp(size)
        return Swept(str(chains[number]), positions[number], made, size, bpp, dict(scores))

    cells = tuple(each(work, range(len(chains)), name=lambda number: str(chains[number])))
    present = asked.only(label for cell in cells for label in cell.scores)
    text = " ".join([chain] if isinstance(chain, str) else chain)
    reasons = {label: left_out[label] for label in asked.labels if label in left_out}
    return Sweep(text, picture, clean, axes, cells, present, reasons)


def _degraded(
    picture: Picture, chain: Chain, seed: int, files: ReadOnce, *, stated: bool
) -> tuple[Picture, Quantity | None]:
    """The picture after the degradation and, where it is asked for, the sd of its noise."""
    if not chain.steps:
        return picture, None
    if not stated:
        return degrade_chain(picture, chain, seed, files), None
    made = degrade(picture, chain, seed=seed, files=files)
    return made.picture, made.certificate.noise_sd


def _parted(chain: Chain) -> tuple[Chain, Chain]:
    """The degradation, up to the last step that is one, and the treatment."""
    treatment = list(dropwhile(lambda step: step.kind == "degradation", chain.steps))
    late = [step for step in treatment if step.kind == "degradation"]
    if late:
        raise ChainError(f"{late[0].name}: degradations come before codecs and restorations")
    return Chain(chain.steps[: len(chain.steps) - len(treatment)]), Chain(tuple(treatment))


def _axes(chains: list[Chain]) -> tuple[tuple[Axis, ...], list[tuple[int, ...]]]:
    """The settings that differ between chains, and where each chain stands on them."""
    swept: list[tuple[str, list[str]]] = []
    for position, step in enumerate(chains[0].steps):
        for key, _ in step.settings:
            texts = [_spelled(chain.steps[position], key) for chain in chains]
            if len(set(texts)) > 1:
                swept.append((_name(chains[0], position, key), texts))
    if len(swept) > 2:
        names = ", ".join(name for name, _ in swept)
        raise InputError(f"a sweep has one or two settings with several values, not {names}")
    if not swept:
        swept = [("chain", [str(chain) for chain in chains])]
    axes = tuple(Axis(name, tuple(dict.fromkeys(texts))) for name, texts in swept)
    positions = [
        tuple(axis.values.index(texts[k]) for axis, (_, texts) in zip(axes, swept, strict=True))
        for k in range(len(chains))
    ]
    return axes, positions


def _spelled(step: Step, key: str) -> str:
    value = dict(step.settings)[key]
    return str(value) if value is KNOWN else step.method.parameters[key].kind.spell(value)


def _name(chain: Chain, position: int, key: str) -> str:
    """The setting's key; with its step's name where another step has the same key."""
    others = [step for k, step in enumerate(chain.steps) if k != position]
    shared = any(key in step.method.parameters for step in others)
    return f"{chain.steps[position].name} {key}" if shared else key
