"""Whether an audio file is complete, from the sizes and checksums its own headers declare.

Sources: RIFF WAVE (EBU Tech 3306 for RF64's ``ds64``), Apple AIFF 1.3, Apple Core Audio Format 1.0, Sony Wave64,
Sun AU, Ogg (RFC 3533: pages are numbered, carry a checksum, and the last of a stream an end-of-stream flag).
FLAC and MP3 tell while they are decoded.
"""

from __future__ import annotations

import struct
import zlib
from pathlib import Path
from typing import BinaryIO

from isophon.core.ranges import LATEST

_UNKNOWN_SIZE = 0xFFFFFFFF  # written by recorders that cannot seek back
_UNKNOWN_SIZE_64 = (1 << 64) - 1
_MOST_CHUNKS = 10_000  # a header of nothing but empty chunks must end too
_OGG_LAST_PAGE = 4  # flag of the last page (RFC 3533)
_OGG_PAGE = struct.Struct("<4sBBQIIIB")
_W64_RIFF = bytes.fromhex("726966662e91cf11a5d628db04c10000")
_W64_DATA = bytes.fromhex("64617461f3acd3118cd100c04f8edb8a")
_TIME_REFERENCE_AT = 256 + 32 + 32 + 10 + 8  # description, originator, its reference, date, time
_MOST_BEXT = 602 + (64 << 10)  # with a coding history of 64 kB
_MIRRORED = bytes(int(f"{i:08b}"[::-1], 2) for i in range(256))


def damage_of(path: Path) -> str:
    """How a file is damaged or cut short, as far as its headers tell; empty for a complete one."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] == b"OggS":
            file.seek(0)
            return _ogg_damage(file)
        missing = _missing_bytes(file, head, size)
    return f"{missing} bytes that its header promises are missing" if missing else ""


def _missing_bytes(file: BinaryIO, head: bytes, size: int) -> int:
    if head[:4] in (b"RIFF", b"RF64", b"BW64") and head[8:12] == b"WAVE":
        return _missing(file, size, b"data", "<")
    if head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"):
        return _missing(file, size, b"SSND", ">")
    if head[:4] == b"caff":
        return _missing_of_caf(file, size)
    if head == _W64_RIFF[:12]:
        return _missing_of_w64(file, size)
    if head[:4] == b".snd" and len(head) == 12:
        start, length = struct.unpack(">II", head[4:12])
        return max(0, start + length - size) if length != _UNKNOWN_SIZE else 0
    return 0


def _missing(file: BinaryIO, size: int, wanted: bytes, order: str) -> int:
    big = None
    for _ in range(_MOST_CHUNKS):
        head = file.read(8)
        if len(head) < 8:
            break
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


def _missing_of_caf(file: BinaryIO, size: int) -> int:
    file.seek(8)
    for _ in range(_MOST_CHUNKS):
        head = file.read(12)
        if len(head) < 12:
            break
        name, length = head[:4], struct.unpack(">Q", head[4:])[0]
        if length == _UNKNOWN_SIZE_64:
            return 0
        if name == b"data" or length > size:
            return max(0, file.tell() + length - size)
        file.seek(length, 1)
    return 0


def _missing_of_w64(file: BinaryIO, size: int) -> int:
    file.seek(40)
    for _ in range(_MOST_CHUNKS):
        head = file.read(24)
        if len(head) < 24:
            break
        length = max(24, struct.unpack("<Q", head[16:])[0])  # with its own head
        if head[:16] == _W64_DATA or length > size:
            return max(0, file.tell() - 24 + length - size)
        file.seek(file.tell() - 24 + (length + 7 & ~7))
    return 0


def _ogg_damage(file: BinaryIO) -> str:
    """Walks over all pages: each complete, in order, with the checksum it carries, and the last one flagged as such."""
    numbers: dict[int, int] = {}
    flags = 0
    while head := file.read(_OGG_PAGE.size):
        if len(head) < _OGG_PAGE.size or head[:4] != b"OggS":
            return "its pages do not follow each other"
        _, _, flags, _, stream, number, checksum, count = _OGG_PAGE.unpack(head)
        table = file.read(count)
        body = file.read(sum(table))
        if len(table) < count or len(body) < sum(table):
            return "its last page is not complete"
        if _ogg_checksum(head[:22] + bytes(4) + head[26:] + table + body) != checksum:
            return "a page does not have its checksum"
        if stream in numbers and number != numbers[stream] + 1:
            return "a page is missing"
        numbers[stream] = number
    return "" if flags & _OGG_LAST_PAGE else "its last page is missing"


def _ogg_checksum(page: bytes) -> int:
    """CRC-32 with the polynomial 0x04c11db7, from 0, highest bit first: zlib's with every byte mirrored."""
    mirrored = zlib.crc32(page.translate(_MIRRORED), _UNKNOWN_SIZE) ^ _UNKNOWN_SIZE
    return int(f"{mirrored:032b}"[::-1], 2)


def time_reference(path: Path) -> int | None:
    """The first frame on the recorder's clock, in frames since midnight, from a WAVE file's ``bext`` chunk.

    None where there is none. Source: EBU Tech 3285 (Broadcast Wave Format), TimeReference.
    """
    body = broadcast_chunk(path)
    if body is None:
        return None
    reference = struct.unpack_from("<Q", body, _TIME_REFERENCE_AT)[0]
    return reference if reference <= LATEST else None


def broadcast_chunk(path: Path) -> bytes | None:
    """The body of a WAVE file's ``bext`` chunk, of at most 64 kB of coding history; None where there is none."""
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:12] != b"WAVE":
            return None
        for _ in range(_MOST_CHUNKS):
            chunk = file.read(8)
            if len(chunk) < 8:
                return None
            name, length = chunk[:4], struct.unpack("<I", chunk[4:])[0]
            if name == b"bext":
                body = file.read(min(length, _MOST_BEXT))
                return body if len(body) >= _TIME_REFERENCE_AT + 8 else None
            if length == _UNKNOWN_SIZE:
                return None
            file.seek(length + (length & 1), 1)
    return None
