"""Writes the files that are made from the program itself: the man page, shell completion, the schema of sessions.

Usage: .venv/bin/python tools/made_files.py
"""

from __future__ import annotations

import argparse
import json
import re
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "src"))

import msgspec  # noqa: E402
import shtab  # noqa: E402

from isophon import __version__  # noqa: E402
from isophon.cli.entry import INTERRUPTED, make_parser  # noqa: E402
from isophon.core.errors import CallError, InputError, OutputError  # noqa: E402
from isophon.core.session.file import SessionFile  # noqa: E402

_STATUSES = (
    (0, "all went well"),
    (CallError.status, "the call is wrong"),
    (InputError.status, "an input cannot be used"),
    (OutputError.status, "an output cannot be written"),
    (INTERRUPTED, "interrupted"),
)


def made_files() -> dict[Path, str]:
    """The text of each file, by its place."""
    parser = make_parser(["find"])
    _complete_files(parser)
    return {
        ROOT / "packaging" / "isophon.1": man_page(parser),
        ROOT / "packaging" / "completion" / "isophon": shtab.complete(parser, "bash"),
        ROOT / "packaging" / "completion" / "_isophon": shtab.complete(parser, "zsh"),
        ROOT / "docs" / "session.schema.json": json.dumps(schema(), indent=1, ensure_ascii=False) + "\n",
    }


def _complete_files(parser: argparse.ArgumentParser) -> None:
    """Let the shell offer files where a file is asked for."""
    for action in parser._actions:
        if action.type is Path:
            action.complete = shtab.FILE
        for command in (action.choices or {}).values() if isinstance(action, argparse._SubParsersAction) else ():
            _complete_files(command)


def schema() -> dict:
    """JSON Schema 2020-12 of session files of this version."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "An Isophon session",
        **_without_descriptions(msgspec.json.schema(SessionFile)),
    }


def _without_descriptions(value: object) -> object:
    """What the types are described as in the code stands in docs/file-format.md in words for readers."""
    if isinstance(value, dict):
        return {
            k: _without_descriptions(v) for k, v in value.items() if not (k == "description" and isinstance(v, str))
        }
    return [_without_descriptions(v) for v in value] if isinstance(value, list) else value


def man_page(parser: argparse.ArgumentParser) -> str:
    """The page in the man macros (groff_man)."""
    commands = next(a for a in parser._actions if isinstance(a, argparse._SubParsersAction))
    words = {action.dest: action.help or "" for action in commands._choices_actions}
    lines = [
        f'.TH ISOPHON 1 "" "Isophon {__version__}" "User commands"',
        ".SH NAME", "isophon \\- clean recorded vocals against the voice around each blemish",
        ".SH SYNOPSIS", ".B isophon", "[\\fIOPTION\\fR] [\\fICOMMAND\\fR ...]",
        ".SH DESCRIPTION", "Without a command, opens the window on its start page. Recordings are never written to.",
        ".SH OPTIONS", *_options(parser), ".SH COMMANDS",
    ]  # fmt: skip
    for name, command in commands.choices.items():
        lines += [f".SS {name}", _plain(words.get(name, "")) + "."]
        lines += [".PP", f"\\fBisophon {name}\\fR {_plain(_arguments(command))}", *_options(command)]
    lines += [".SH EXIT STATUS"]
    for status, meaning in _STATUSES:
        lines += [".TP", f".B {status}", f"{meaning}"]
    lines += [
        ".SH FILES",
        ".TP", "\\fI$XDG_DATA_HOME/isophon\\fR", "the demo, voice cards, rough chains",
        ".TP", "\\fI$XDG_STATE_HOME/isophon\\fR", "journals of sessions, what the window remembers, the log",
        ".TP", "\\fI$XDG_CACHE_HOME/isophon\\fR", "what was measured of recordings; may be deleted at any time",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _arguments(command: argparse.ArgumentParser) -> str:
    return re.sub(r"\s+", " ", command.format_usage()).removeprefix(f"usage: {command.prog} ").strip()


def _options(parser: argparse.ArgumentParser) -> list[str]:
    lines = []
    for action in parser._actions:
        if action.option_strings:
            value = f" \\fI{action.metavar or action.dest.upper()}\\fR" if action.nargs != 0 else ""
            names = ", ".join(f"\\fB{_plain(name)}\\fR" for name in action.option_strings)
            lines += [".TP", names + value, _plain(action.help or "")]
    return lines


def _plain(text: str) -> str:
    """Text with what the macros would read as more than letters written out."""
    return text.replace("\\", "\\e").replace("-", "\\-")


def main() -> None:
    for path, text in made_files().items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
