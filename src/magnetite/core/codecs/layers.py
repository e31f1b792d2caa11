"""What a codec is made of: layers in a row, run forwards to bytes and backwards from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

from magnetite.core.errors import StreamError
from magnetite.core.picture import Colour, Pixels


@dataclass(frozen=True)
class Frame:
    """The shape of what is coded: all that a decoder knows beside the codec's settings."""

    height: int
    width: int
    channels: int
    colour: Colour
    #: Bit depth; None for float.
    bits: int | None = None

    @property
    def shape(self) -> tuple[int, ...]:
        """Shape of the samples: (h, w) for gray, (h, w, n) otherwise."""
        size = (self.height, self.width)
        return size if self.colour == "gray" else (*size, self.channels)


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
    #: What is to be said of how it was made.
    note: str = ""


class Layer(Protocol):
    """One stage. `backward` undoes `forward`, up to the loss that is the layer's purpose."""

    def forward(self, data: Any) -> Any: ...

    def backward(self, data: Any) -> Any: ...


@dataclass(frozen=True)
class EachPlane:
    """The last layer of a codec of planes: each goes through layers of its own to one section."""

    names: Sequence[str]
    layers: Sequence[Sequence[Layer]]

    def forward(self, planes: Sequence[Any]) -> list[Section]:
        sections = []
        for name, layers, plane in zip(self.names, self.layers, planes, strict=True):
            data = plane
            for layer in layers:
                data = layer.forward(data)
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

    def forward(self, pixels: Pixels) -> list[Section]:
        """Code samples on full-scale units, shape `Frame.shape`."""
        data: Any = pixels
        for layer in self.layers:
            data = layer.forward(data)
        sections: list[Section] = data
        return sections

    def backward(self, sections: Sequence[bytes]) -> Pixels:
        """Decode the sections; raises `StreamError` where they are not what was coded."""
        data: Any = sections
        for layer in reversed(self.layers):
            data = layer.backward(data)
        pixels: Pixels = data
        return pixels
