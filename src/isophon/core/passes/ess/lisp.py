"""Esses brought so far down that they would lisp, and which sounds an ess is of."""

from __future__ import annotations

from typing import TYPE_CHECKING

from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.ess.settings import LEFT_ALONE
from isophon.core.passes.kind import Doubt

if TYPE_CHECKING:
    from isophon.core.session.model import Part

UNDER_VOICE_DB = -20.0  # dB against the voice level: an ess that would be left softer sounds lisped
UNDER_USUAL_DB = 7.0  # dB under the singer's usual one, the same


def lisps(mark: EssMark, change: float, usual: float | None) -> bool:
    """Whether an ess changed by so many dB is likely to lisp: far under the voice, or this singer's usual one.

    One that meets the lead's is meant to be under it.
    """
    left = mark.standout_db + change
    if change >= 0 or mark.partner_s is not None or mark.sound in LEFT_ALONE:
        return False
    return left < UNDER_VOICE_DB or (usual is not None and left < usual - UNDER_USUAL_DB)


def doubts(part: Part) -> list[Doubt]:
    """The esses of a part that would lisp."""
    usual = part.context("ess")
    found = tuple(mark.span[0] for mark, change in part.changes_of(EssMark) if lisps(mark, change, usual))
    return [Doubt("a lisp is likely", found)] if found else []


def sounds_of(mark: EssMark) -> str:
    """What an ess is called beside others; a T or an F is none."""
    return "" if mark.sound in LEFT_ALONE else "esses"
