"""Pipeline of a codec: layers in a row, run forwards to bytes and backwards from them."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

from magnetite.core.arrays import Pixels
from magnetite.core.errors import MagnetiteError, StreamError


class ByteCount(NamedTuple):
    """A labelled byte count."""

    name: str
    length: int


class Section(NamedTuple):
    """A named run of bytes; the name is for reports and is not stored."""

    name: str
    data: bytes
    #: Labelled byte counts, in order; they add up to the length of the data. A name
    #: may come again. Empty where the whole section is one thing.
    runs: Sequence[ByteCount] = ()
    #: Remarks on how it was made.
    note: str = ""


class Layer(Protocol):
    """One stage. `backward` undoes `forward`, up to the loss that is the layer's purpose.

    `forward` raises `PictureError` for pictures that it cannot code, `backward` `StreamError` for
    damaged data.
    """

    def forward(self, data: Any) -> Any: ...

    def backward(self, data: Any) -> Any: ...


class _Made(NamedTuple):
    """A layer's result, and how long it took to compute."""

    layer: Layer
    given: Any
    result: Any
    seconds: float


class Memory:
    """Results of the layers in the run before, for runs that differ in later layers alone.

    A layer is not run again where an equal one was given the same object: so a search for a rate
    computes colours and transform once.
    """

    #: Seconds that the results taken from before took to compute.
    saved = 0.0

    def __init__(self) -> None:
        self._before: list[_Made] = []
        self._now: list[_Made] = []

    def run(self, layer: Layer, data: Any) -> Any:
        """The layer's result for the data, computed or kept."""
        if isinstance(layer, Compound):
            return layer.coded(data, self)
        made = next((m for m in self._before if m.given is data and m.layer == layer), None)
        if made is None:
            start = time.perf_counter()
            result = layer.forward(data)
            made = _Made(layer, data, result, time.perf_counter() - start)
        else:
            self.saved += made.seconds
        self._now.append(made)
        return made.result

    def turn(self) -> None:
        """Begin a new run."""
        self._before, self._now, self.saved = self._now, [], 0.0


class Compound:
    """A layer that is made of layers, which may be run with a memory of the run before."""

    def forward(self, data: Any) -> Any:
        return self.coded(data, Memory())

    def coded(self, data: Any, memory: Memory) -> Any:
        """The same, with the results that a memory holds."""
        raise NotImplementedError


@dataclass(frozen=True)
class EachPlane(Compound):
    """Each plane goes through layers of its own."""

    layers: Sequence[Sequence[Layer]]

    def coded(self, planes: Sequence[Any], memory: Memory) -> list[Any]:
        return [
            through(layers, plane, memory)
            for layers, plane in zip(self.layers, planes, strict=True)
        ]

    def backward(self, planes: Sequence[Any]) -> list[Any]:
        return [back(layers, data) for layers, data in zip(self.layers, planes, strict=True)]


@dataclass(frozen=True)
class Named:
    """The last layer of a codec of planes: the bytes of each are a section."""

    names: Sequence[str]

    def forward(self, planes: Sequence[bytes]) -> list[Section]:
        return [Section(name, data) for name, data in zip(self.names, planes, strict=True)]

    def backward(self, sections: Sequence[bytes]) -> list[bytes]:
        if len(sections) != len(self.names):
            raise StreamError(f"{len(self.names)} sections are expected, {len(sections)} are there")
        return list(sections)


def through(layers: Sequence[Layer], data: Any, memory: Memory) -> Any:
    """Data through all layers, with the results that a memory holds."""
    for layer in layers:
        data = memory.run(layer, data)
    return data


def back(layers: Sequence[Layer], data: Any) -> Any:
    """Decode by layers, the last one first."""
    for layer in reversed(layers):
        data = layer.backward(data)
    return data


@dataclass(frozen=True)
class Pipeline:
    """Layers in forward order: the first takes samples, the last gives sections of bytes."""

    layers: Sequence[Layer]
    #: Whether a stream that was cut short still decodes, to a lower quality.
    embedded: bool = False

    def forward(self, pixels: Pixels, memory: Memory | None = None) -> list[Section]:
        """Code samples on full-scale units, shape `Frame.shape`.

        With a memory of a run on the same array, layers that have not changed are not run again.
        """
        memory = memory or Memory()
        memory.turn()
        sections: list[Section] = through(self.layers, pixels, memory)
        return sections

    def backward(self, sections: Sequence[bytes]) -> Pixels:
        """Decode the sections; raises `StreamError` where they are damaged."""
        try:
            pixels: Pixels = back(self.layers, sections)
        except MagnetiteError:
            raise
        except (TypeError, ValueError, LookupError, ArithmeticError) as error:
            # A stranger's sections can be those of other layers.
            raise StreamError("the sections do not fit the step of the stream") from error
        return pixels
