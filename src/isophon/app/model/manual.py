"""The manual as the window shows it: its chapters, and the keys as a chapter of their own."""

from __future__ import annotations

import re
from html import escape
from importlib import resources
from pathlib import Path
from typing import NamedTuple

from isophon.app.translation import language, tr

_CHAPTER = re.compile(r"^## (.+)$", re.MULTILINE)
KEYS_CHAPTER, METHOD_CHAPTER = "Keys", "Method"


class Chapter(NamedTuple):
    """One chapter: its name, and its text in Markdown."""

    name: str
    text: str

    def has(self, words: str) -> bool:
        """Whether all of some words stand in it, in any order, upper and lower case alike."""
        text = self.text.casefold()
        return all(word in text for word in words.casefold().split())


def folder() -> Path:
    """Where the manual and its pictures lie."""
    return Path(str(resources.files("isophon") / "manual"))


def chapters(keys: tuple[tuple[str, tuple[tuple[str, str, str], ...]], ...]) -> list[Chapter]:
    """The chapters in the order of the manual, then the keys, then the method.

    Parameters
    ----------
    keys : groups of keys by title; each key with its action, its spelling and what it does
    """
    named = _chapters_in("manual.md")
    if (folder() / f"manual.{language()}.md").exists():  # those that are translated take the place of the first ones
        translated = _chapters_in(f"manual.{language()}.md")
        named[: len(translated)] = translated
    method = Chapter(METHOD_CHAPTER, (folder() / "method.md").read_text(encoding="utf-8"))
    return [*named, Chapter(KEYS_CHAPTER, _keys_as_text(keys)), method]


def _chapters_in(name: str) -> list[Chapter]:
    _, *found = _CHAPTER.split((folder() / name).read_text(encoding="utf-8"))
    return [Chapter(name, f"## {name}\n{text}") for name, text in zip(found[::2], found[1::2], strict=True)]


def _keys_as_text(keys: tuple[tuple[str, tuple[tuple[str, str, str], ...]], ...]) -> str:
    lines = [f"## {tr(KEYS_CHAPTER)}"]
    for title, group in keys:
        lines += ["", f"### {tr(title)}", "", tr("| key | what it does |"), "|---|---|"]
        lines += [f"| `{spelling}` | {escape(tr(what))} |" for _, spelling, what in group]
    return "\n".join(lines) + "\n"
