"""`.mgt` files of large pictures, written and read section by section."""

from __future__ import annotations

import math
import shutil
import tempfile
import zlib
from collections.abc import Iterator
from itertools import accumulate
from pathlib import Path

from magnetite.core.codecs.layers.container import (
    ALTERED,
    LONGEST_HEADER,
    Header,
    check_frame,
    missing_bytes,
    read_header,
)
from magnetite.core.errors import StreamError
from magnetite.core.operations.coding import Account, CodedRows
from magnetite.core.operations.expand import ExpandedRows, slabs_of_stream
from magnetite.files.atomic import replacing
from magnetite.files.opening import Stamp, opened

#: Bytes that are read at a time.
_PIECE = 2**24


def write_coded_rows(path: Path, coded: CodedRows) -> Account:
    """Write a stream, whole or not at all.

    The sections are kept in a temporary file until the lengths of all of them are known.

    Raises
    ------
    FileError
        If the file cannot be written.
    """
    with replacing(path) as temporary, tempfile.TemporaryFile(dir=path.resolve().parent) as waiting:
        lengths, checksum = [], 0
        for section in coded:
            waiting.write(section.data)
            lengths.append(len(section.data))
            checksum = zlib.crc32(section.data, checksum)
        header = Header(coded.frame, coded.step, lengths, checksum).pack()
        waiting.seek(0)
        with open(temporary, "wb") as file:
            file.write(header)
            shutil.copyfileobj(waiting, file, _PIECE)
    return coded.account(len(header))


def open_stream(path: Path) -> ExpandedRows | None:
    """A stream of slabs to be read in bands; None for one that is decoded as a whole.

    Raises
    ------
    StreamError
        If the stream is damaged, cut or altered.
    """
    try:
        return _opened(path)
    except StreamError as error:
        raise StreamError(f"{path}: {error}") from None


def _opened(path: Path) -> ExpandedRows | None:
    with opened(path) as file:
        header, start = read_header(file.read(LONGEST_HEADER))
        stamp = Stamp.of(file)
    check_frame(header.frame, math.prod(header.frame.shape))
    begins = list(accumulate(header.lengths, initial=start))

    def section(number: int) -> bytes:
        with opened(path, stamp) as file:
            file.seek(begins[number])
            return file.read(header.lengths[number])

    slabs = slabs_of_stream(header)
    if slabs is None:
        return None
    _check(path, header, start, stamp)
    return ExpandedRows(slabs, len(header.lengths), section, str(path))


def _check(path: Path, header: Header, start: int, stamp: Stamp) -> None:
    """Raise `StreamError` unless the sections are those of the header."""
    if missing := missing_bytes(header, stamp.size - start):
        raise StreamError(f"the stream is truncated: {missing} bytes are missing at its end")
    checksum = 0
    for piece in _pieces(path, start, stamp):
        checksum = zlib.crc32(piece, checksum)
    if checksum != header.checksum:
        raise StreamError(ALTERED)


def _pieces(path: Path, start: int, stamp: Stamp) -> Iterator[bytes]:
    with opened(path, stamp) as file:
        file.seek(start)
        while piece := file.read(_PIECE):
            yield piece
