"""What a WAVE file can say beside its samples: where it began and what was done (bext), and places with names (cue).

``bext`` after EBU Tech 3285 version 2; ``cue `` and ``LIST adtl`` after the RIFF specification (IBM & Microsoft 1991).
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Literal

_ORIGINATOR = "Isophon"
_DS64_SIZE_AT = 20  # bytes from the begin of an RF64 file to the size of its data (EBU Tech 3306)
_RIFF_SIZE_AT = 4  # the same of a RIFF file
_VERSION_AT, _HISTORY_AT = 346, 602  # in the body of a bext chunk
_HEAD_BYTES = 4_096  # PEAK stands before the samples
_MOST_CHUNKS, _MOST_CHUNK_BYTES = 1_000, 1 << 20  # looked at in a file that may be damaged
_IN_DS64 = 0xFFFFFFFF  # the size that stands where the real one is in the ds64 chunk (EBU Tech 3306)


def bext(description: str, time_reference: int, began: datetime, history: Sequence[str], before: bytes = b"") -> bytes:
    """A broadcast chunk: a description, the first frame since midnight, when the recording was made, what was done.

    ``before``: the body of the recording's own chunk, whose version, UMID and loudness are kept, and whose coding
    history goes on; empty where it has none.
    """
    version = max(1, *struct.unpack_from("<H", before, _VERSION_AT)) if len(before) >= _HISTORY_AT else 1
    fields = before[_VERSION_AT + 2 : _HISTORY_AT] if len(before) >= _HISTORY_AT else b""
    earlier = before[_HISTORY_AT:].split(b"\0")[0].decode("ascii", "replace").splitlines()
    body = b"".join((
        _text(description, 256), _text(_ORIGINATOR, 32), _text("", 32),
        _text(began.strftime("%Y-%m-%d"), 10), _text(began.strftime("%H:%M:%S"), 8),
        struct.pack("<QH", time_reference, version), fields.ljust(_HISTORY_AT - _VERSION_AT - 2, b"\0"),
        "".join(f"{line}\r\n" for line in [*earlier, *history]).encode("ascii", "replace"),
    ))  # fmt: skip
    return _chunk(b"bext", body)


def cues(places: Sequence[tuple[int, int, str]]) -> bytes:
    """Cue points with names and lengths: ``(first frame, frames, name)``; nothing where there are none."""
    if not places:
        return b""
    points = b"".join(struct.pack("<II4sIII", i, at, b"data", 0, 0, at) for i, (at, _, _) in enumerate(places, 1))
    lists = b"adtl"
    for i, (_, _, name) in enumerate(places, 1):
        lists += _chunk(b"labl", struct.pack("<I", i) + name.encode("utf-8") + b"\0")
    for i, (_, length, _) in enumerate(places, 1):
        lists += _chunk(b"ltxt", struct.pack("<II4sHHHH", i, length, b"rgn ", 0, 0, 0, 0))
    return _chunk(b"cue ", struct.pack("<I", len(places)) + points) + _chunk(b"LIST", lists)


def read_cues(path: Path, rate: int) -> list[tuple[float, str]]:
    """The cue points of a WAVE file in s, with their names where it has any, in order; none in a file of another kind.

    ``rate``: of the file. What is damaged is left out.
    """
    points: dict[int, int] = {}
    names: dict[int, str] = {}
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] not in (b"RIFF", b"RF64") or head[8:12] != b"WAVE":
            return []
        for _ in range(_MOST_CHUNKS):
            name, size = struct.unpack("<4sI", head) if len(head := file.read(8)) == 8 else (b"", 0)
            if not name:
                break
            begins = file.tell()
            if name == b"cue ":
                body = file.read(min(size, _MOST_CHUNK_BYTES))
                for at in range(4, len(body) - 23, 24):
                    number, _, _, _, _, frame = struct.unpack_from("<II4sIII", body, at)
                    points[number] = frame
            elif name == b"LIST":
                names |= _labels(file.read(min(size, _MOST_CHUNK_BYTES)))
            if name == b"data" and size == _IN_DS64:
                break  # what follows so large a file's samples is not looked for
            file.seek(begins + size + (size & 1))
    return sorted((frame / rate, names.get(number, "")) for number, frame in points.items())


def _labels(body: bytes) -> dict[int, str]:
    """The names in a list of associated data, by the number of the cue point."""
    found: dict[int, str] = {}
    at = 4
    while body[:4] == b"adtl" and at + 12 <= len(body):
        name, size, number = struct.unpack_from("<4sII", body, at)
        if name == b"labl":
            text = body[at + 12 : at + 8 + size].split(b"\0")[0]
            found[number] = text.decode("utf-8", "replace").strip()
        at += 8 + size + (size & 1)
    return found


def append(path: Path, chunks: bytes) -> None:
    """Put chunks behind a WAVE file's samples, and count them in its size; OSError if that cannot be written."""
    if not chunks:
        return
    with path.open("r+b") as file:
        head = file.read(12)
        file.seek(0, 2)
        if file.tell() & 1:
            file.write(b"\0")
        file.write(chunks)
        size = file.tell() - 8
        if head[:4] == b"RF64":
            file.seek(_DS64_SIZE_AT)
            file.write(struct.pack("<Q", size))
        else:
            file.seek(_RIFF_SIZE_AT)
            file.write(struct.pack("<I", size))


def undate_peak(path: Path, order: Literal["<", ">"]) -> None:
    """Take the time out of the PEAK chunk that float files get, so that the same samples make the same file."""
    with path.open("r+b") as file:
        head = file.read(_HEAD_BYTES)
        at = head.find(b"PEAK")
        if at >= 0 and struct.unpack_from(f"{order}I", head, at + 8)[0] == 1:  # its version
            file.seek(at + 12)
            file.write(bytes(4))


def _chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + bytes(len(body) & 1)


def _text(text: str, length: int) -> bytes:
    return text.encode("ascii", "replace")[:length].ljust(length, b"\0")
