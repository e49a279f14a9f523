"""What a worker is asked, and what it answers: one value each, tagged, as JSON of one line."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec

from isophon.core.audio.leak import Leak, Removal
from isophon.core.errors import ExistsError, InputError, IsophonError
from isophon.core.handover.target import Target
from isophon.core.passes import NAMES
from isophon.core.ranges import File, Key, Name, Seconds
from isophon.core.reading import path_of, spelled
from isophon.core.session.model import Part, Session
from isophon.core.work.cleaning import FileRequest
from isophon.core.work.leak_learning import Lesson


class Message(msgspec.Struct, frozen=True, tag_field="do", kw_only=True):
    """``cores``: how many of them the work may take; 0: all."""

    cores: int = 0


class Wake(Message, frozen=True, tag="wake"):
    """Be there."""


class Look(Message, frozen=True, tag="look"):
    """Take a first look at a recording and keep it."""

    path: File


class Measure(Message, frozen=True, tag="measure"):
    """Survey a recording without its ``leak``, find its marks and keep that; ``again``: even where it is kept."""

    path: File
    leak: Leak | None = None
    removal: Removal = Removal()
    again: bool = False


class Learn(Message, frozen=True, tag="learn"):
    """Learn what leaked into a recording."""

    path: File
    lesson: Lesson


class LearnSpan(Message, frozen=True, tag="learn span"):
    """Let a ``kind`` learn from a span of a part, in s."""

    part: Part
    kind: Name
    start: Seconds
    end: Seconds


class HearBeside(Message, frozen=True, tag="beside"):
    """Find what can only be found in the recording of a ``part`` beside those of its ``leads``, each of which it lies
    after by so many seconds."""

    path: File
    leads: tuple[tuple[File, Seconds], ...]
    key: Key
    part: Name


class HandOver(Message, frozen=True, tag="hand over"):
    """Write the stem of a part; ``keep``: what is found for it is kept."""

    session: Session
    part: Name
    target: Target
    kinds: tuple[Name, ...] = NAMES
    keep: bool = True


class CleanFile(Message, frozen=True, tag="clean"):
    """Write the stem of a recording that is in no session."""

    asked: FileRequest
    target: Target


class RenderAhead(Message, frozen=True, tag="render ahead"):
    """Render what the slow stages leave of a part, from a second of it on."""

    part: Part
    at: Seconds


class Progress(msgspec.Struct, frozen=True, tag_field="is", tag="progress"):
    """How far it is, as a fraction."""

    fraction: float


class Done(msgspec.Struct, frozen=True, tag_field="is", tag="done"):
    """It is done."""

    value: Any = None


class Failed(msgspec.Struct, frozen=True, tag_field="is", tag="failed"):
    """Why it failed.

    ``of_input``: what it was to work on cannot be used; ``exists``: what it was to write is there already; ``status``:
    the exit status that tells of it.
    """

    words: str
    of_input: bool = False
    exists: bool = False
    status: int = 1

    @classmethod
    def of(cls, error: IsophonError) -> Failed:
        """What an error tells."""
        return cls(str(error), isinstance(error, InputError), isinstance(error, ExistsError), error.status)


Request = Wake | Look | Measure | Learn | LearnSpan | HearBeside | HandOver | CleanFile | RenderAhead
Reply = Progress | Done | Failed


def _encode_path(value: Any) -> str:
    if isinstance(value, Path):
        return spelled(value)
    raise NotImplementedError(type(value))


def _decode_path(kind: type, value: Any) -> Path:
    if kind is Path and isinstance(value, str):
        return path_of(value)
    raise NotImplementedError(kind)


_ENCODER = msgspec.json.Encoder(enc_hook=_encode_path)
_REQUESTS = msgspec.json.Decoder(Request, dec_hook=_decode_path)
_REPLIES = msgspec.json.Decoder(Reply)


def encode(message: Request | Reply) -> bytes:
    """A message as a line."""
    try:
        return _ENCODER.encode(message) + b"\n"
    except UnicodeEncodeError:  # the name of a file that is no text
        return json.dumps(msgspec.to_builtins(message, enc_hook=_encode_path)).encode() + b"\n"


def decode_request(line: bytes) -> Request:
    """What is asked in a line; MsgspecError where it is nothing of that."""
    return _REQUESTS.decode(line)


def decode_reply(line: bytes) -> Reply:
    """What is answered in a line; MsgspecError where it is nothing of that."""
    try:
        return _REPLIES.decode(line)
    except msgspec.DecodeError as error:
        try:
            return msgspec.convert(json.loads(line), Reply)
        except ValueError:
            raise error from None
