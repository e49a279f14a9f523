"""Where kept settings differ from those of a part, in the words of the sheets."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from isophon.app.sheets import PASSES
from isophon.core.passes import NAMES
from isophon.core.session.model import Part


def settings_that_differ(settings: Mapping[str, Any], part: Part) -> list[tuple[str, str, str, str]]:
    """Pass, setting, the kept value and the part's, where the two differ; ``settings``: the kept ones of some kinds."""
    rows = []
    for kind in (name for name in NAMES if name in settings):
        which = next((w for w in PASSES if kind in w.kinds), None)
        mine, stored = getattr(part, kind), settings[kind]
        for field in msgspec.structs.fields(type(stored)):
            value, other = getattr(stored, field.name), getattr(mine, field.name)
            if value != other:
                words = which.words_of(kind, field.name) if which else field.name
                theirs, ours = ((which.said(kind, field.name, v) if which else str(v)) for v in (value, other))
                rows.append((which.name if which else kind, words, theirs, ours))
    return rows
