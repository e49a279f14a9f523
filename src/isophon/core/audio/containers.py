"""Whether an audio file is whole, from the sizes its own headers declare.

Sources: RIFF WAVE (EBU Tech 3306 for RF64's ``ds64``), Apple AIFF 1.3, Ogg
(RFC 3533: the last page of a stream carries the end-of-stream flag).
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import BinaryIO

_UNKNOWN_SIZE = 0xFFFFFFFF  # written by recorders that cannot seek back
_OGG_LAST_PAGE = 4
_OGG_TAIL = 65_536 + 512  # a page is at most 65,307 bytes
_TIME_REFERENCE_AT = 256 + 32 + 32 + 10 + 8  # description, originator, its reference, date, time


def missing_bytes(path: Path) -> int:
    """How many bytes of sound the header promises that the file does not hold.

    0 for a whole file and for formats without such a promise; for an Ogg file
    without its last page, 1.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] in (b"RIFF", b"RF64", b"BW64") and head[8:12] == b"WAVE":
            return _missing(file, size, b"data", "<")
        if head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"):
            return _missing(file, size, b"SSND", ">")
        if head[:4] == b"OggS":
            return int(not _ogg_ends(file, size))
    return 0


def _missing(file: BinaryIO, size: int, wanted: bytes, order: str) -> int:
    big = None
    while len(head := file.read(8)) == 8:
        name, length = head[:4], struct.unpack(order + "I", head[4:])[0]
        start = file.tell()
        if name == b"ds64":
            body = file.read(16)
            big = struct.unpack("<QQ", body)[1] if len(body) == 16 else None
        if name == wanted:
            if length == _UNKNOWN_SIZE:
                length = big if big is not None else size - start
            return max(0, start + length - size)
        file.seek(start + length + (length & 1))
    return 0


def _ogg_ends(file: BinaryIO, size: int) -> bool:
    file.seek(max(0, size - _OGG_TAIL))
    tail = file.read()
    at = tail.rfind(b"OggS")
    return at >= 0 and len(tail) > at + 5 and bool(tail[at + 5] & _OGG_LAST_PAGE)


def time_reference(path: Path) -> int | None:
    """The first frame on the recorder's clock, in frames since midnight, from a WAVE file's ``bext`` chunk.

    None where there is none. Source: EBU Tech 3285 (Broadcast Wave Format), TimeReference.
    """
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:12] != b"WAVE":
            return None
        while len(chunk := file.read(8)) == 8:
            name, length = chunk[:4], struct.unpack("<I", chunk[4:])[0]
            if name == b"bext":
                body = file.read(_TIME_REFERENCE_AT + 8)
                return struct.unpack("<Q", body[_TIME_REFERENCE_AT:])[0] if len(body) > _TIME_REFERENCE_AT + 7 else None
            if length == _UNKNOWN_SIZE:
                return None
            file.seek(length + (length & 1), 1)
    return None
