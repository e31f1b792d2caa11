"""Codecs of open standards, by the libraries that read and write their files: yardsticks."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Pixels, Samples
from magnetite.core.chain.step import Step
from magnetite.core.codecs.layers import headers
from magnetite.core.codecs.layers.pipeline import Pipeline, Section
from magnetite.core.errors import MagnetiteError, PictureError, StreamError
from magnetite.core.methods.catalogue import ColourPolicy, codec
from magnetite.core.methods.parameters import Count, Decibels, Number
from magnetite.core.picture.frame import Frame

#: Last bytes of whole files: decoders are slow on truncated ones, or report nothing.
_JPEG_END, _PNG_END = b"\xff\xd9", b"IEND\xaeB`\x82"

Coder = Callable[[Samples], bytes]
Decoder = Callable[[bytes], Samples]


@dataclass(frozen=True)
class Foreign:
    """Samples to one file of another format, and back."""

    frame: Frame
    name: str
    deepest: int
    encode: Coder
    decode: Decoder
    #: Reads the size from the file's header, so that another one is refused before decoding.
    size: headers.Reader
    #: Last bytes of a whole file, where decoders are slow on truncated ones.
    ends: bytes = b""
    #: Depths of the files; samples of other depths go into the next deeper one, by their share of
    #: full scale. None where files have the picture's own depth.
    depths: tuple[int, ...] | None = None

    @property
    def stored(self) -> int:
        """Bits of the file's samples."""
        bits = self.frame.bits or 8
        if self.depths is None or bits <= 8:
            return bits
        return next(depth for depth in self.depths if depth >= bits)

    def forward(self, pixels: Pixels) -> list[Section]:
        bits = self.frame.bits
        if bits is None or bits > self.deepest or self.frame.colour == "planes":
            raise PictureError(
                f"{self.name} codes gray and RGB of up to {self.deepest} bits here, and this "
                f"picture is {self.frame.describe()}: convert it, as with depth "
                f"bits={self.deepest}"
            )
        full = 2**bits - 1
        whole = np.rint(pixels * pixels.dtype.type(full)).clip(0, full)
        if self.stored != bits:
            whole = np.rint(whole.astype(np.float64) * ((2**self.stored - 1) / full))
        samples = whole.astype(np.uint8 if bits <= 8 else np.uint16)
        return [Section(self.name, bytes(self.encode(np.ascontiguousarray(samples))))]

    def backward(self, sections: Sequence[bytes]) -> Pixels:
        if len(sections) != 1:
            raise StreamError(f"1 section is expected, {len(sections)} are there")
        try:
            self._check(sections[0])
            samples = np.asarray(self.decode(sections[0]))
        except MagnetiteError as error:
            raise StreamError(f"the {self.name} file is damaged: {error}") from None
        except Exception as error:  # libraries raise whatever they like on damaged files
            raise StreamError(f"the {self.name} file is damaged ({error})") from None
        if self.frame.colour == "gray" and samples.ndim == 3:
            samples = samples[..., 0]
        if samples.shape != self.frame.shape:
            raise StreamError(f"the {self.name} file holds a picture of another size")
        full = np.float32(2**self.stored - 1)
        return np.asarray(samples / full, np.float32)

    def _check(self, data: bytes) -> None:
        size = headers.size_of(self.size, data)
        if (size.height, size.width) != (self.frame.height, self.frame.width):
            raise StreamError("it holds a picture of another size")
        if size.components is not None and size.components != self.frame.channels:
            raise StreamError(f"it holds {size.components} components")
        if not data.endswith(self.ends):
            raise StreamError("it is cut short")


def _doubled(encode: Coder) -> Coder:
    """For formats without gray: the plane as red, green and blue."""
    return lambda samples: encode(samples if samples.ndim == 3 else np.dstack([samples] * 3))


#: A codec of an open standard.
_yardstick = partial(codec, colour=ColourPolicy.JOINT, yardstick=True)


@_yardstick(
    "jpeg",
    summary="Yardstick: baseline JPEG with optimised tables.",
    source="ITU-T T.81 (1992)",
    quality="quality",
    finer="higher",
    points="5,10,20,35,50,65,80,92",
)
def jpeg(
    frame: Frame, *, quality: Annotated[int, Count(1, 100), "scale of the quantizer tables"]
) -> Pipeline:
    """Block transform and Huffman codes; quality 1 to 100 scales the example tables of T.81."""
    import imagecodecs

    def encode(samples: Samples) -> bytes:
        return bytes(imagecodecs.jpeg8_encode(samples, level=quality, optimize=True))

    return Pipeline(
        [Foreign(frame, "jpeg", 8, encode, imagecodecs.jpeg8_decode, headers.jpeg_size, _JPEG_END)]
    )


@_yardstick(
    "jpeg2000",
    summary="Yardstick: JPEG 2000 with the 9/7 filter.",
    source="ISO/IEC 15444-1",
    quality="psnr",
    finer="higher",
    points="26dB,29dB,32dB,35dB,38dB,41dB,44dB,47dB",
)
def jpeg2000(
    frame: Frame, *, psnr: Annotated[float, Decibels(10, 100), "PSNR that the stream is cut at"]
) -> Pipeline:
    """Wavelets and bit planes, cut so that the picture has about this PSNR."""
    import imagecodecs

    def encode(samples: Samples) -> bytes:
        return bytes(imagecodecs.jpeg2k_encode(samples, level=psnr, bitspersample=frame.bits))  # type: ignore[arg-type]

    return Pipeline(
        [Foreign(frame, "jpeg2000", 16, encode, imagecodecs.jpeg2k_decode, headers.jpeg2000_size)]
    )


@_yardstick(
    "jpeg-xl",
    summary="Yardstick: JPEG XL; distance 0 loses nothing.",
    source="ISO/IEC 18181-1",
    quality="distance",
    finer="lower",
    points="0.5,1,1.7,2.8,4.5,7,11,15",
)
def jpeg_xl(
    frame: Frame,
    *,
    distance: Annotated[float, Number(0, 15), "perceptual distance; 0 is lossless"],
    effort: Annotated[
        int, Count(1, 10), "effort of the library; each unit takes about twice the time"
    ] = 9,
) -> Pipeline:
    """Block transform and predicted modes; perceptual distance 0 (lossless) to 15.

    `effort` 1 to 10 is the library's: each step more takes about twice the time. Samples of 9 to
    16 bits are coded as 16 bits.
    """
    import imagecodecs

    def encode(samples: Samples) -> bytes:
        lossless = distance == 0
        return bytes(
            imagecodecs.jpegxl_encode(samples, distance=distance, lossless=lossless, effort=effort)
        )

    return Pipeline(
        [
            Foreign(
                frame, "jpeg-xl", 16, encode, imagecodecs.jpegxl_decode, headers.jpeg_xl_size,
                depths=(16,),
            )
        ]
    )  # fmt: skip


@_yardstick(
    "jpeg-ls",
    summary="Yardstick: JPEG-LS, lossless or within a bound.",
    source="ITU-T T.87 (1998)",
    quality="bound",
    finer="lower",
    points="0,1,2,3,5,8,12,20",
)
def jpeg_ls(
    frame: Frame, *, bound: Annotated[int, Count(0, 127), "largest error of any sample, dn"] = 0
) -> Pipeline:
    """Prediction and Golomb codes; no sample is further than `bound` dn from its own."""
    import imagecodecs

    def encode(samples: Samples) -> bytes:
        return bytes(imagecodecs.jpegls_encode(samples, level=bound, out=_room(samples)))

    return Pipeline(
        [
            Foreign(
                frame,
                "jpeg-ls",
                16,
                encode,
                imagecodecs.jpegls_decode,
                headers.jpeg_size,
                _JPEG_END,
            )
        ]
    )


@_yardstick(
    "webp",
    summary="Yardstick: WebP, lossy.",
    source="RFC 9649",
    quality="quality",
    finer="higher",
    points="3,10,25,40,55,70,85,95",
)
def webp(
    frame: Frame,
    *,
    quality: Annotated[int, Count(1, 100), "quality of the library"],
    effort: Annotated[int, Count(0, 6), "effort of the library"] = 6,
) -> Pipeline:
    """Predicted blocks and arithmetic codes, quality 1 to 100.

    The format has no gray: a gray picture goes in as RGB, whose empty colour costs next to
    nothing. `effort` 0 to 6 is the library's.
    """
    import imagecodecs

    def encode(samples: Samples) -> bytes:
        return bytes(imagecodecs.webp_encode(samples, level=quality, lossless=False, method=effort))

    return Pipeline(
        [Foreign(frame, "webp", 8, _doubled(encode), imagecodecs.webp_decode, headers.webp_size)]
    )


@_yardstick(
    "avif",
    summary="Yardstick: AVIF.",
    source="ISO/IEC 23000-22; AV1 Bitstream and Decoding Process Specification",
    quality="quality",
    finer="higher",
    points="10,20,32,45,58,70,82,94",
)
def avif(
    frame: Frame,
    *,
    quality: Annotated[int, Count(1, 100), "quality of the library"],
    effort: Annotated[int, Count(0, 10), "10 minus the speed of the library"] = 6,
) -> Pipeline:
    """One key frame of AV1, quality 1 to 100, of 8, 10 or 12 bits.

    `effort` is 10 minus the library's speed. Gray goes in as RGB, whose empty colour costs next to
    nothing: the library codes a single plane without loss only.
    """
    import imagecodecs

    yardstick = Foreign(
        frame, "avif", 12, lambda _: b"", imagecodecs.avif_decode, headers.avif_size,
        depths=(10, 12),
    )  # fmt: skip

    def encode(samples: Samples) -> bytes:
        return bytes(
            imagecodecs.avif_encode(
                samples, level=quality, speed=10 - effort, bitspersample=max(8, yardstick.stored)
            )
        )

    return Pipeline([replace(yardstick, encode=_doubled(encode))])


def encode_png(samples: Samples, level: int) -> bytes:
    """A PNG of uint8 or uint16 samples, shape (h, w) or (h, w, n), by DEFLATE of a level 0 to 9."""
    import imagecodecs

    return bytes(imagecodecs.png_encode(samples, level=level, out=_room(samples)))


def _room(samples: Samples) -> int:
    """Bytes that a lossless file may take: of small pictures of noise, more than the samples."""
    return int(samples.nbytes + samples.nbytes // 2 + 64 * samples.shape[0] + 4096)


@_yardstick(
    "png",
    summary="Yardstick: PNG, lossless.",
    source="ISO/IEC 15948",
    quality="level",
    finer="higher",
    points="1,6,9",
)
def png(frame: Frame, *, level: Annotated[int, Count(0, 9), "effort of DEFLATE"] = 9) -> Pipeline:
    """Prediction and DEFLATE; level 0 to 9 is how hard the latter tries."""
    import imagecodecs

    def encode(samples: Samples) -> bytes:
        return encode_png(samples, level)

    return Pipeline(
        [Foreign(frame, "png", 16, encode, imagecodecs.png_decode, headers.png_size, _PNG_END)]
    )


#: Names of the libraries behind the yardsticks, as their versions are listed.
_LIBRARIES = {
    "jpeg": "libjpeg_turbo", "jpeg2000": "openjpeg", "jpeg-xl": "libjxl", "jpeg-ls": "charls",
    "webp": "libwebp", "avif": "libavif", "png": "libpng",
}  # fmt: skip


def library_of(step: Step) -> str:
    """Name and version of the library behind a yardstick; empty for our own codecs."""
    if step.kind != "codec" or step.name not in _LIBRARIES:
        return ""
    import imagecodecs

    name = _LIBRARIES[step.name]
    version = re.search(rf"\b{name}-([^\s,/]+)", str(imagecodecs.version()))
    return f"{name} {version[1] if version else ''}".rstrip()


def stated(step: Step, library: str) -> str:
    """A yardstick with its library, as `library_of` gives it, and the effort."""
    effort = (step.method.defaults | dict(step.settings)).get("effort")
    return f"{step.name} by {library}" + ("" if effort is None else f", effort {effort}")
