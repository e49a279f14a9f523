"""The Esses sheet."""

from __future__ import annotations

import numpy as np

from isophon.app import theme
from isophon.app.model.passes import (
    SURE,
    TOP,
    Ceiling,
    Controls,
    HandTools,
    Knob,
    LensView,
    Limits,
    Pass,
    SkylineView,
    TraceView,
    Words,
)
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.ess_extras import BY, STACK, TURNS, EssExtras
from isophon.app.sheets.ess_pictures import Picture
from isophon.core.audio.dynamics import static_db
from isophon.core.marks import Mark
from isophon.core.passes.ess.find import measure
from isophon.core.passes.ess.lisp import UNDER_USUAL_DB, lisps
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.ess.settings import EssSettings, ceiling_over_voice
from isophon.core.passes.stage import Read
from isophon.core.session import edits
from isophon.core.session.model import Part, Session
from isophon.core.session.settings import value_range
from isophon.core.survey import Survey
from isophon.core.takes.pictures import VOICE

_DULL_UNDER_USUAL_DB = 3.0
LETTERS = {"s": "S", "sh": "Sh", "t": "T", "f": "F"}


# common practice: a low voice hisses from 3 kHz, a high one from 5, a bright one up to the top and needs a quick hand
def _limits(part: Part) -> tuple[float, float] | None:
    """The band that the rule listens to, where it is asked for."""
    how = part.ess
    if how.by == "ceiling":
        return None
    return how.rule_low_hz, how.rule_high_hz if how.rule_high_hz > how.rule_low_hz else VOICE.high


def _move_limits(workspace: Workspace, low_hz: float, high_hz: float, gesture: object) -> None:
    top = 0.0 if high_hz >= VOICE.high else round(high_hz)
    ranges = {name: value_range("ess", name) for name in ("rule_low_hz", "rule_high_hz")}
    wanted = {"rule_low_hz": round(low_hz), "rule_high_hz": top}
    held = {name: min(ranges[name][1], max(ranges[name][0], value)) for name, value in wanted.items()}

    def change(session: Session) -> Session:
        for name, value in held.items():
            session = edits.set_setting(session, workspace.selected_parts, "ess", name, value)
        return session

    workspace.edit(f"the rule listens to {low_hz / 1000:.1f} to {high_hz / 1000:.1f} kHz", change, gesture)


_WORDS = {("ess", "ceiling_db"): "ceiling", ("ess", "by"): "esses", ("ess", "stack"): "with the lead’s esses",
          ("ess", "rule_turns"): "the rule turns down", ("ess", "altogether"): "completely",
          ("ess", "t_too"): "bring down T’s", ("ess", "f_too"): "bring down F’s"}  # fmt: skip
_CHOICES = {("ess", "by"): BY, ("ess", "stack"): STACK, ("ess", "rule_turns"): TURNS | {"band": "its band"}}


def _greyed(settings: EssSettings) -> tuple[str, ...]:
    return (*(() if settings.air_db else ("air_hz",)), *(() if settings.t_too else ("t_db",)),
            *(() if settings.f_too else ("f_db",)))  # fmt: skip


def _away(settings: EssSettings) -> tuple[str, ...]:
    """Knobs that have no place as things are."""
    rule = tuple(k.name for k in _RULE) if settings.by == "ceiling" else ()
    ceilings = ("ceiling_db", "usual_db", "limit_db") if settings.by == "rule" else ()
    return (*rule, *ceilings, *(() if settings.stack == "under" else ("under_db",)))


_RULE = (
    Knob("rule_over_db", "Rule: over the voice", 0.5, "dB", "Its threshold: the level in its band over the voice’s"),
    Knob("rule_ratio", "Rule: ratio", 0.5, ": 1", "What is over the threshold is divided by this; 100 acts as a limit"),
    Knob("rule_knee_db", "Rule: knee", 0.5, "dB", "How softly it sets in around the threshold", True),
    Knob("rule_range_db", "Rule: at most", 0.5, "dB", "The most it takes off"),
    Knob("rule_attack_ms", "Rule: attack", 0.1, "ms", "How fast it acts", True),
    Knob("rule_release_ms", "Rule: release", 1, "ms", "How fast it lets go", True),
    Knob("rule_hold_ms", "Rule: hold", 1, "ms", "How long it waits before it lets go", True),
    Knob("rule_ahead_ms", "Rule: look ahead", 0.5, "ms", "How much earlier it acts than the sound", True),
    Knob("rule_low_hz", "Rule: band from", 100, "Hz", "The lower end of the band that it listens to and turns down"),
    Knob("rule_high_hz", "Rule: band to", 100, "Hz", "The upper end of that band; 0: up to the top", True),
)  # fmt: skip


def _ceilings(part: Part) -> list[Ceiling]:
    over_voice, usual = part.ess.ceiling_db, part.context("ess")
    rule: list[Ceiling] = [("rule_over_db", "the rule’s threshold", part.ess.rule_over_db, True)]
    if part.ess.by == "rule":
        return rule
    rule = rule if part.ess.by == "both" else []
    if usual is None:
        return [*rule, ("ceiling_db", "ceiling over the voice", over_voice, True)]
    over_usual = usual + part.ess.usual_db
    lowest = ceiling_over_voice(part.ess, usual)
    return [
        *rule,
        ("ceiling_db", "ceiling over the voice", over_voice, lowest == over_voice),
        ("usual_db", "over this singer’s usual", over_usual, lowest != over_voice),
    ]


def _drawn(_read: Read, survey: Survey, start: float, end: float) -> Mark:
    level, standout, low, high, sound = measure(survey, start, end)
    return EssMark("", start, end, level, standout, low, high, 1.0, sound=sound)


def _seen_change(part: Part, mark: Mark) -> float:
    """What ceiling and rule do to a mark together; the rule as its static curve says of the mark's level."""
    change, how = part.change(mark), part.ess
    if how.by == "ceiling" or mark.kind != "ess":
        return change
    over = np.array(mark.standout_db + change - how.rule_over_db)
    return change - min(how.rule_range_db, float(static_db(over, how.rule_ratio, how.rule_knee_db)))


def _about(part: Part) -> str:
    usual = part.context("ess")
    changed = [(m, part.change(m)) for m in part.of(EssMark) if part.acts(m) and m.partner_s is None]
    cut = [m.standout_db + change - usual for m, change in changed if usual is not None]
    if cut and float(np.mean(cut)) < -_DULL_UNDER_USUAL_DB:
        return f"dull: what comes down lies {theme.signed(float(np.mean(cut)))} dB under the usual ess"
    return "" if usual is None else f"usual ess {theme.signed(usual)} dB over the voice"


def _warning(workspace: Workspace, mark: EssMark) -> str:
    change = workspace.part.change(mark)
    left = mark.standout_db + change
    usual = workspace.part.context("ess")
    if not lisps(mark, change, usual):
        return ""
    if usual is not None and left < usual - UNDER_USUAL_DB:
        return f"A lisp is likely: this ess would lie {theme.signed(left - usual)} dB under this singer’s usual one."
    return f"A lisp is likely: this ess would be {theme.signed(left)} dB over the voice."


def _more_words(_workspace: Workspace, mark: EssMark) -> str:
    letter = LETTERS.get(mark.sound, "")
    whistles = mark.whistle_hz and f", whistles at {mark.whistle_hz / 1000:.1f} kHz"
    return " ".join(filter(None, (letter and f"{letter},", f"from {mark.band[0] / 1000:.1f} kHz{whistles or ''}")))


PASS = Pass(
    "ess",
    "Esses",
    theme.ess_shape,
    words=Words(
        one="ess",
        many="esses",
        first_look="Red tops are what comes off. Drag the ceiling; {agree} accepts a mark and goes on.",
        over_what=" in dB over the voice around them",
        gone=lambda _part: "",
        more_words=_more_words,
        warning=_warning,
        about=_about,
        letter=lambda mark: LETTERS.get(mark.sound, ""),
    ),
    controls=Controls(
        knobs=(
            Knob(
                "ceiling_db",
                "Ceiling over the voice",
                0.5,
                "dB",
                "What stands out more than this over the voice around it comes down to it",
            ),
            Knob(
                "usual_db",
                "Over this singer’s usual",
                0.5,
                "dB",
                "What stands out more than this over the singer’s own usual ess comes down too",
            ),
            Knob("limit_db", "At most", 0.5, "dB", "No change is deeper than this"),
            Knob("edge_ms", "Fades", 1, "ms", "How long the change takes to fade in and out", True),
            Knob("under_db", "Under the lead’s ess", 0.5, "dB", "How far under it an ess that meets it is brought"),
            Knob("air_db", "Air", 0.5, "dB", "Top given back after the taming; the esses get none of it", True),
            Knob("air_hz", "Air from", 100, "Hz", "Where the air begins", True),
            Knob(
                "whistle_over_db",
                "Whistle: let through",
                0.5,
                "dB",
                "How far a whistle may stand over the other sound of its S",
                True,
            ),
            Knob(
                "sh_db", "Sh: ceiling higher by", 0.5, "dB", "How much more an Sh or Ch may stand out than an S", True
            ),
            Knob(
                "t_db", "T: ceiling higher by", 0.5, "dB", "How much more a T may stand out, where T’s come down", True
            ),
            Knob(
                "f_db", "F: ceiling higher by", 0.5, "dB", "How much more an F may stand out, where F’s come down", True
            ),
            *_RULE,
            SURE,
        ),
        greyed=_greyed,
        away=_away,
        setting_words=_WORDS,
        choices=_CHOICES,
        extras=EssExtras,
        picture=Picture,
    ),
    skyline=SkylineView(
        partner_height=lambda mark: (
            mark.partner_db if isinstance(mark, EssMark) and mark.partner_s is not None else None
        ),
        bounds=(-18.0, 6.0, -36.0, 30.0),
        ceilings=_ceilings,
        will_sound=True,
        seen_change=_seen_change,
    ),
    lens=LensView(close=TOP, blends=True),
    trace=TraceView(limits=Limits(_limits, _move_limits), axis=VOICE),
    hand=HandTools(
        measure=_drawn,
        handles=("start", "end", "low", "high"),
        shaped="time",
        fades=lambda part: (part.ess.edge_ms, part.ess.edge_ms),
    ),
)
