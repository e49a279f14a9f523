"""The window's words in the language of the person.

All words are English, in the code as in what the core says, and are looked up where they are shown: ``tr(words)``. A
catalogue (``languages/de.json``) has another text for each. Words with values in them stand there with ``{0}``, ``{1}``
… in their place, and are recognised by what is around the values: messages of the core come from other processes, and
names of steps from journals, as one text. What a catalogue does not have stays English. Qt's own dialogs have Qt's own
translation.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from functools import lru_cache
from importlib import resources
from typing import Literal, NamedTuple, get_args

from PySide6.QtCore import QLibraryInfo, QLocale, QTranslator
from PySide6.QtWidgets import QApplication

Language = Literal["desktop", "en", "de"]
LANGUAGES: dict[Language, str] = {"desktop": "As the desktop", "en": "English", "de": "Deutsch"}
_CATALOGUES = tuple(one for one in get_args(Language) if one not in ("desktop", "en"))
_VALUE = re.compile(r"\{(\d)(?:\?([^{}]*))?\}")
_NUMBER = re.compile(r"(.*[^\W\d].*?)(\s+[+−-]?[\d.,:]+(?: ?(?:dB|Hz|kHz|ms|s|%|LUFS|dBFS))?)")
_PARTS = ("\n", " · ", "; ", ". ", ", ")  # what joins words that are known one by one
_REMEMBERED = 20_000  # texts
_DEEP = 5  # values in values
_TELLING = 6  # letters in a row that make a pattern a telling one


class _Pattern(NamedTuple):
    """A text with values: the pieces of it that are always there, the longest of them, and its translation."""

    pieces: list[str]
    piece: str
    other: str

    def values(self, words: str) -> list[str] | None:
        """What stands between the pieces in some words; None where they are not this text.

        Each piece is taken where it comes first, in one pass, so that no name from a file can make this take long.
        """
        first, *middle, last = self.pieces
        at, end = len(first), len(words) - len(last)
        if end < at or not words.startswith(first) or not words.endswith(last):
            return None
        values = []
        for piece in middle:
            found = words.find(piece, at, end)
            if found < 0:
                return None
            values.append(words[at:found])
            at = found + len(piece)
        return [*values, words[at:end]]


class _Catalogue:
    """The texts of a language."""

    def __init__(self, language: str, texts: dict[str, str], keys: dict[str, str]) -> None:
        self.language, self.keys = language, keys
        self._plain = {english: other for english, other in texts.items() if not _VALUE.search(english)}
        patterns = [(english, other) for english, other in texts.items() if _VALUE.search(english)]
        patterns.sort(key=lambda one: -len(_VALUE.sub("", one[0])))  # the one that says most comes first
        self._patterns = [_pattern(*one) for one in patterns]

    def translated(self, words: str, deep: int = 0) -> str:
        """The words in this language, or as they are."""
        if not any(map(str.isalpha, words)):
            return words
        known = self._known(words)
        ways = (
            (self._by_telling_pattern, self._by_parts, self._by_pattern, self._before_a_number) if deep < _DEEP else ()
        )
        for way in ways:
            known = way(words, deep) if known is None else known
        return words if known is None else known

    def _known(self, words: str) -> str | None:
        known = self._plain.get(words)
        if known is None and words[:1].isupper():
            known = self._plain.get(words[0].lower() + words[1:])
            known = known and known[0].upper() + known[1:]
        return known

    def _by_telling_pattern(self, words: str, deep: int) -> str | None:
        """By a pattern that is not nearly all values."""
        return self._by_pattern(words, deep, _TELLING)

    def _by_pattern(self, words: str, deep: int, letters: int = 0) -> str | None:
        for pattern in self._patterns:
            if len(pattern.piece) < letters or pattern.piece not in words:
                continue
            found = pattern.values(words)
            if found is not None:
                values = [self.translated(value, deep + 1) if value else "" for value in found]

                def put(place: re.Match[str], values: list[str] = values) -> str:
                    value = values[int(place[1])]
                    return value if place[2] is None else place[2] if value else ""

                return _VALUE.sub(put, pattern.other)
        return None

    def _by_parts(self, words: str, deep: int) -> str | None:
        for joint in _PARTS:
            if joint in words.strip(joint):
                return joint.join(self.translated(part, deep + 1) for part in words.split(joint))
        return None

    def _before_a_number(self, words: str, deep: int) -> str | None:
        found = _NUMBER.fullmatch(words)
        return found and self.translated(found[1], deep + 1) + found[2]


def _pattern(english: str, other: str) -> _Pattern:
    pieces = _VALUE.split(english)[::3]
    return _Pattern(pieces, max(pieces, key=len), other)


_in_force: list[_Catalogue] = []  # none: English
_of_qt: list[QTranslator] = []


def use_language(app: QApplication, language: Language) -> None:
    """Show the words of an application in a language from now on; widgets that are there keep theirs."""
    wanted = QLocale.system().name()[:2] if language == "desktop" else language
    while _of_qt:
        app.removeTranslator(_of_qt.pop())
    _in_force.clear()
    _translated.cache_clear()
    if wanted not in _CATALOGUES:
        return
    _in_force.append(_Catalogue(wanted, *catalogue(wanted)))
    _of_qt.append(QTranslator(app))
    if _of_qt[0].load(f"qtbase_{wanted}", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)):
        app.installTranslator(_of_qt[0])


def language() -> str:
    """The language in force: ``en``, ``de``."""
    return _in_force[0].language if _in_force else "en"


def catalogue(language: str) -> tuple[dict[str, str], dict[str, str]]:
    """The texts of a language by the English ones, and what is written on its keyboards by the English names."""
    file = resources.files("isophon.app") / "languages" / f"{language}.json"
    values = json.loads(file.read_text(encoding="utf-8"))
    return values["texts"], values["keys"]


def tr(words: str) -> str:
    """Words in the language of the person; as they are where that is English, or nobody translated them.

    >>> tr("Nobody translated this")
    'Nobody translated this'
    """
    return _translated(words) if _in_force else words


def tr_all(texts: Iterable[str]) -> list[str]:
    """Each of some texts, as :func:`tr`."""
    return [tr(words) for words in texts]


def tr_key(name: str) -> str:
    """What is written on a key, such as ``Shift``."""
    return _in_force[0].keys.get(name, name) if _in_force else name


@lru_cache(maxsize=_REMEMBERED)
def _translated(words: str) -> str:
    return _in_force[0].translated(words)
