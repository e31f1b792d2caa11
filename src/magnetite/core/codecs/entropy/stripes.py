"""Arrays to bytes and back by a model, in two stripes on two threads where they are large."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from magnetite.core.arrays import Int32
from magnetite.core.codecs.entropy.coder import NEXT, close_encoder, new_coder, open_decoder
from magnetite.core.compute.threads import spread
from magnetite.core.errors import StreamError

#: A model: it codes or decodes an array in place with a coder over bytes, given its context arrays.
Model = Callable[..., None]

#: From this many numbers on, the first axis is cut in two: each half learns separately.
_WORTH = 2**19
#: Least cost of a number: one decision, of a probability of 65532 / 65536 at most.
_LEAST_BYTES = math.log2(65536 / 65532) / 8


def encode(model: Model, numbers: Int32, *contexts: Int32) -> bytes:
    """UInt8 of an array; a lossy model changes it to the decoder's output.

    `contexts` are arrays of as many rows that the decoder has as well.
    """
    if not _is_cut(numbers):
        return _encoded(model, numbers, *contexts)
    jobs = zip(*(_halves(array) for array in (numbers, *contexts)), strict=True)
    first, second = spread(lambda job: _encoded(model, *job), jobs)
    return len(first).to_bytes(4, "little") + first + second


def decode(model: Model, data: bytes, shape: tuple[int, ...], *contexts: Int32) -> Int32:
    """The array of bytes that `encode` made, with the same contexts.

    Raises
    ------
    StreamError
        If the bytes end before the array or go on after it.
    """
    check_length(data, shape)
    numbers = np.zeros(shape, np.int32)
    if not _is_cut(numbers):
        _decode(model, data, numbers, *contexts)
        return numbers
    length = int.from_bytes(data[:4], "little")
    if len(data) < 4 or length > len(data) - 4:
        raise StreamError("the compressed data end early")
    parts = data[4 : 4 + length], data[4 + length :]
    jobs = zip(parts, *(_halves(array) for array in (numbers, *contexts)), strict=True)
    spread(lambda job: _decode(model, *job), jobs)
    return numbers


def check_length(data: bytes, shape: tuple[int, ...]) -> None:
    """Raise `StreamError` for fewer bytes than any array of that shape takes."""
    if len(data) < math.prod(shape) * _LEAST_BYTES - 8:
        raise StreamError("the compressed data are too short for their declared number of values")


def _is_cut(numbers: Int32) -> bool:
    return numbers.size >= _WORTH and numbers.shape[0] > 1


def _halves(array: Int32) -> tuple[Int32, Int32]:
    half = (array.shape[0] + 1) // 2
    return array[:half], array[half:]


def _encoded(model: Model, numbers: Int32, *contexts: Int32) -> bytes:
    size = numbers.size + 4096
    while True:
        kept = numbers.copy()
        coder, data = new_coder(False, size), np.empty(size, np.uint8)
        model(coder, data, kept, *contexts)
        length = close_encoder(coder, data)
        if length <= size:
            numbers[...] = kept
            return data[:length].tobytes()
        size = length + 16


def _decode(model: Model, data: bytes, numbers: Int32, *contexts: Int32) -> None:
    coder, array = new_coder(True, len(data)), np.frombuffer(data, np.uint8).copy()
    open_decoder(coder, array)
    model(coder, array, numbers, *contexts)
    # A decoder is three bytes ahead of its encoder, which ends with the last.
    if int(coder[NEXT]) != len(data) + 3:
        raise StreamError("the compressed data end early or run on")
