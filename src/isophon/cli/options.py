"""What the options of a call ask for."""

from __future__ import annotations

import argparse
from pathlib import Path

from isophon.core.audio.files import Recording
from isophon.core.errors import CallError
from isophon.core.passes import BY_NAME, KINDS, NAMES, Settings
from isophon.core.session.cards import load_card
from isophon.core.session.model import ROLES
from isophon.core.session.settings import role_default, with_setting


def kinds_of(call: argparse.Namespace) -> set[str]:
    """The kinds that a call works on; CallError where it names one that is none, or leaves out what one needs."""
    kinds = set(NAMES)
    if call.only is not None:
        kinds &= kind_list("--only", call.only)
        beside = sorted(kind for kind in kinds if BY_NAME[kind].beside_lead.find)
        if beside and not call.lead and not getattr(call, "session", None):
            raise CallError(f"--only: {beside[0]} hears the lead; name it with --lead FILE")
        named = mark_files(call)
        for kind in (kind for kind in KINDS if kind.name in kinds):
            one = kind.mark_file
            needed = one is not None and not one.replaces
            if one is not None and needed and one.option not in named and not getattr(call, "session", None):
                raise CallError(f"--only: {kind.name} works on the {one.holds} of a file; "
                                f"name it with --{one.option} FILE")  # fmt: skip
    if call.skip is not None:
        kinds -= kind_list("--skip", call.skip)
    return kinds


def mark_files(call: argparse.Namespace) -> dict[str, Path]:
    """The files that marks are taken from, by the options that name them."""
    options = [kind.mark_file.option for kind in KINDS if kind.mark_file]
    return {option: path for option in options if (path := getattr(call, option)) is not None}


def kind_list(option: str, text: str) -> set[str]:
    """The kinds that an option names, parted by commas."""
    kinds = {kind.strip() for kind in text.split(",") if kind.strip()}
    for kind in sorted(kinds):
        if kind not in NAMES:
            raise CallError(f"{option}: '{kind}' is no kind of this version; the kinds are {', '.join(NAMES)}")
    if not kinds:
        raise CallError(f"{option}: names no kind; the kinds are {', '.join(NAMES)}")
    return kinds


def settings_of(call: argparse.Namespace, role: str) -> Settings:
    """The settings of every kind: of the role, then of the card, then as they are set."""
    settings = {kind: role_default(kind, role) for kind in NAMES}
    if call.card:
        settings |= load_card(call.card).onto(settings)
    for kind, setting, value in map(one_setting, call.set):
        settings[kind] = with_setting(kind, settings[kind], setting, value)
    return Settings(**settings)


def one_setting(item: str) -> tuple[str, str, str]:
    """Kind, setting and value of ``KIND.SETTING=VALUE``."""
    name, equals, value = item.partition("=")
    kind, dot, setting = name.partition(".")
    if not (equals and dot):
        raise CallError(f"--set {item}: use KIND.SETTING=VALUE, for example --set ess.ceiling_db=-4")
    if kind not in NAMES:
        raise CallError(f"--set {item}: '{kind}' has no settings in this version; use {', '.join(NAMES)}")
    return kind, setting, value


def check_role(call: argparse.Namespace) -> None:
    """Refuse a role that is none, and references that cannot be read or do not go together."""
    if call.role is not None and call.role not in ROLES:
        raise CallError(f"--role {call.role}: is no role; the roles are {', '.join(ROLES)}")
    for guide in (*((call.bed,) if call.bed else ()), *call.lead, *call.cue):
        Recording(guide).close()
    if call.cue and call.own_click:
        raise CallError("--own-click: is for takes without a cue file; leave out --cue, or this")
