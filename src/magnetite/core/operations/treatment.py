"""Treat a degraded picture: restorations and codecs in a row, from real files."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from threading import Lock
from typing import NamedTuple

from magnetite.core.chain.bind import ReadOnce
from magnetite.core.chain.step import KNOWN, Chain, Step
from magnetite.core.errors import InputError
from magnetite.core.operations.coding import Coder
from magnetite.core.operations.expand import expand
from magnetite.core.operations.restoration_chain import run
from magnetite.core.picture import Picture
from magnetite.core.quantities import Quantity


class Treated(NamedTuple):
    """A picture after a treatment, or part of the way through it."""

    picture: Picture
    #: Bytes of the last codec's file.
    size: int | None = None
    #: Time of all steps, those shared with treatments before included.
    seconds: float = 0.0


@dataclass
class Kept:
    """Intermediate results of one picture's treatments that begin alike."""

    #: Pictures after restorations, by the canonical text of all that was done.
    states: dict[str, Treated] = field(default_factory=dict)
    #: The last coder of the picture: it keeps colours and transform.
    _coder: Coder | None = None
    _lock: Lock = field(default_factory=Lock)

    def code(self, picture: Picture, step: Step) -> tuple[bytes, float]:
        """The file of a picture, by the coder that coded it last if there is one.

        Also the seconds that the results kept from before took to compute.
        """
        with self._lock:
            if self._coder is None or self._coder.picture is not picture:
                self._coder = Coder(picture)
            return self._coder.code(step).data, self._coder.saved


def treat(
    degraded: Picture,
    chain: Chain | None,
    known: Quantity | None = None,
    files: ReadOnce | None = None,
    kept: Kept | None = None,
) -> Treated:
    """A picture after restorations and codecs, the bytes of the last codec's file, and the time.

    Between restorations samples stay float; a codec codes whole digital numbers, from its file.

    Parameters
    ----------
    degraded : Picture
    chain : Chain or None
        None leaves the picture as it is.
    known : Quantity, optional
        Value of settings that are written `known`.
    files : ReadOnce, optional
        Reads files that settings name.
    kept : Kept, optional
        Of treatments of the same picture before.

    Raises
    ------
    InputError
        If a setting is `known` and nothing is known.
    """
    kept = kept or Kept()
    made = Treated(degraded)
    done = ""
    for part in _runs(_with_known(chain, known) if chain is not None else None):
        done += f"{part} + "
        if done in kept.states:
            made = kept.states[done]
            continue
        made = _part_done(made, part, files, kept)
        if part.steps[0].kind == "restoration":
            kept.states[done] = made
    return made


def _part_done(made: Treated, part: Chain, files: ReadOnce | None, kept: Kept) -> Treated:
    start, (picture, size, seconds) = time.perf_counter(), made
    if part.steps[0].kind == "codec":
        data, saved = kept.code(picture, part.steps[0])
        picture, size, seconds = expand(data), len(data), seconds + saved
    else:
        restored = run(picture, part, picture.pixels(), files)
        picture = picture.with_pixels(restored.pixels)[0]
    return Treated(picture, size, seconds + time.perf_counter() - start)


def _runs(chain: Chain | None) -> list[Chain]:
    """Restorations in a row together, each codec alone."""
    groups: list[list[Step]] = []
    for step in chain.steps if chain is not None else ():
        if groups and step.kind == groups[-1][-1].kind == "restoration":
            groups[-1].append(step)
        else:
            groups.append([step])
    return [Chain(tuple(group)) for group in groups]


def _with_known(chain: Chain, known: Quantity | None) -> Chain:
    for position, step in enumerate(chain.steps):
        for key, value in step.settings:
            if value is not KNOWN:
                continue
            if known is None:
                raise InputError(
                    f"{step.name} {key}=known: the degradation does not end with noise of a stated "
                    "sd"
                )
            stated = step.method.parameters[key].kind.parse(str(known))
            chain = chain.with_setting(position, key, stated)
    return chain
