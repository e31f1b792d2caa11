"""What a codec is made of: layers in a row, run forwards to bytes and backwards from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

from magnetite.core.arrays import Pixels
from magnetite.core.errors import StreamError


class Run(NamedTuple):
    """So many bytes that tell one thing."""

    name: str
    length: int


class Section(NamedTuple):
    """A named run of bytes; the name is for reports and is not stored."""

    name: str
    data: bytes
    #: What its bytes tell, one after the other: lengths that add up to that of the data. A name
    #: may come again. Empty where the whole section is one thing.
    runs: Sequence[Run] = ()
    #: Remarks on how it was made.
    note: str = ""


class Layer(Protocol):
    """One stage. `backward` undoes `forward`, up to the loss that is the layer's purpose."""

    def forward(self, data: Any) -> Any: ...

    def backward(self, data: Any) -> Any: ...


class Memory:
    """What the layers made in the run before, for runs that differ in later layers alone.

    A layer is not run again where an equal one was given the same object: so a search for a rate
    computes colours and transform once.
    """

    def __init__(self) -> None:
        self._before: list[tuple[Layer, Any, Any]] = []
        self._now: list[tuple[Layer, Any, Any]] = []

    def run(self, layer: Layer, data: Any) -> Any:
        """What the layer makes of the data, or made of them."""
        kept = [m for known, given, m in self._before if given is data and known == layer]
        made = kept[0] if kept else layer.forward(data)
        self._now.append((layer, data, made))
        return made

    def turn(self) -> None:
        """Begin a new run."""
        self._before, self._now = self._now, []


@dataclass(frozen=True)
class EachPlane:
    """The last layer of a codec of planes: each goes through layers of its own to one section."""

    names: Sequence[str]
    layers: Sequence[Sequence[Layer]]

    def forward(self, planes: Sequence[Any]) -> list[Section]:
        return self.coded(planes, Memory())

    def coded(self, planes: Sequence[Any], memory: Memory) -> list[Section]:
        """The same, with what a memory knows."""
        sections = []
        for name, layers, plane in zip(self.names, self.layers, planes, strict=True):
            data = plane
            for layer in layers:
                data = memory.run(layer, data)
            sections.append(Section(name, data))
        return sections

    def backward(self, sections: Sequence[bytes]) -> list[Any]:
        if len(sections) != len(self.names):
            raise StreamError(f"{len(self.names)} sections are expected, {len(sections)} are there")
        planes = []
        for layers, section in zip(self.layers, sections, strict=True):
            data: Any = section
            for layer in reversed(layers):
                data = layer.backward(data)
            planes.append(data)
        return planes


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
        data: Any = pixels
        for layer in self.layers:
            if isinstance(layer, EachPlane):
                data = layer.coded(data, memory)
            else:
                data = memory.run(layer, data)
        sections: list[Section] = data
        return sections

    def backward(self, sections: Sequence[bytes]) -> Pixels:
        """Decode the sections; raises `StreamError` where they are not what was coded."""
        data: Any = sections
        for layer in reversed(self.layers):
            data = layer.backward(data)
        pixels: Pixels = data
        return pixels
