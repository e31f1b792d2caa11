"""Declared commands as a codec's layer, and as a restoration."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.codecs.layers.pipeline import Section
from magnetite.core.errors import CommandError, MagnetiteError, StreamError
from magnetite.core.picture import Picture, as_picture
from magnetite.core.picture.frame import Frame
from magnetite.external.running import Command
from magnetite.files.reading import read
from magnetite.files.writing import write


@dataclass(frozen=True)
class CommandCodec:
    """Samples to the file that one command makes of a picture, and back by another."""

    frame: Frame
    encode: Command
    decode: Command
    ending: str
    settings: Mapping[str, str]

    def forward(self, pixels: Pixels) -> list[Section]:
        picture = _blank(self.frame).with_pixels(pixels)[0]
        source = _file_of(picture, self.ending)
        names = (f"picture{self.ending}", "coded")
        return [Section(self.encode.name, self.encode.run(source, names, self.settings))]

    def backward(self, sections: Sequence[bytes]) -> Pixels:
        if len(sections) != 1:
            raise StreamError(f"1 section is expected, {len(sections)} are there")
        names = ("coded", f"picture{self.ending}")
        made = self.decode.run(sections[0], names, self.settings)
        return _picture_of(made, self.ending, self.decode.name, _blank(self.frame)).pixels()


@dataclass(frozen=True)
class CommandRestoration:
    """Pixels through a command: it reads and writes pictures of 16 bits, or of 8 or float.

    They have 16 bits in formats that hold as many, and are float in NPY.
    """

    command: Command
    ending: str

    def __call__(self, pixels: Pixels, settings: Mapping[str, str]) -> Pixels:
        if self.ending == ".npy":
            given = as_picture(pixels.astype(np.float32), any_range=True)
        else:
            bits = 16 if self.ending in (".png", ".tif", ".tiff", ".pgm", ".ppm", ".jp2") else 8
            colour = as_picture(pixels, any_range=True).colour
            blank = np.zeros(pixels.shape, np.uint16 if bits == 16 else np.uint8)
            given = Picture(blank, bits, colour).with_pixels(pixels)[0]
        names = (f"given{self.ending}", f"made{self.ending}")
        made = self.command.run(_file_of(given, self.ending), names, settings)
        picture = _picture_of(made, self.ending, self.command.name, given)
        return picture.pixels().astype(pixels.dtype)


def _blank(frame: Frame) -> Picture:
    dtype = np.float32 if frame.bits is None else np.uint8 if frame.bits <= 8 else np.uint16
    return Picture(np.zeros(frame.shape, dtype), frame.bits, frame.colour)


def _file_of(picture: Picture, ending: str) -> bytes:
    with tempfile.TemporaryDirectory(prefix="magnetite-") as folder:
        path = Path(folder) / f"picture{ending}"
        write(picture, path)
        return path.read_bytes()


def _picture_of(data: bytes, ending: str, name: str, like: Picture) -> Picture:
    """The picture in a command's output; it must have the size and colour of the input."""
    scale = like.full_scale if ending == ".npy" and like.bits is not None else None
    with tempfile.TemporaryDirectory(prefix="magnetite-") as folder:
        path = Path(folder) / f"picture{ending}"
        path.write_bytes(data)
        try:
            picture = read(path, full_scale=scale)
        except MagnetiteError as error:
            reason = str(error).replace(f"{path}: ", "")
            raise CommandError(f"{name}: its command's picture cannot be read: {reason}") from None
    if picture.samples.shape != like.samples.shape:
        raise CommandError(
            f"{name}: its command gave {picture.describe()} back for {like.describe()}"
        )
    return picture
