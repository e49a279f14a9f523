"""Why what was changed just now is not heard: as sung plays, the pass is set aside, the part is muted, and so on."""

from __future__ import annotations

from isophon.app.model.hearing import BESIDE_LEAD, Hearing
from isophon.app.model.workspace import Workspace
from isophon.core.session.model import Part
from isophon.core.staging import Plan


class Unheard:
    """Compares what is done to the selected parts with what was done to them before the last change."""

    def __init__(self, workspace: Workspace, hearing: Hearing) -> None:
        self.workspace, self.hearing = workspace, hearing
        self._before: dict[str, Part] = {}

    def why(self) -> tuple[str, str]:
        """Why the last change is not heard while it plays, and the action that changes that; '' where it is heard."""
        workspace = self.workspace
        now = {part.id: part for part in workspace.session.parts if part.id in workspace.selected_parts}
        before, self._before = self._before, now
        if not self.hearing.player.playing:
            return "", ""
        changed = [part for name, part in now.items() if name in before and _differs(before[name], part)]
        reasons = [self._why(before[part.id], part) for part in changed]
        return reasons[0] if reasons and all(words for words, _ in reasons) else ("", "")

    def _why(self, before: Part, part: Part) -> tuple[str, str]:
        hearing, workspace = self.hearing, self.workspace
        aside = workspace.audition.unheard
        if aside and before.plan_without(aside) == part.plan_without(aside):
            return "this pass is set aside", "aside"
        if not hearing.sounds(part.id):
            if hearing.hear == BESIDE_LEAD:
                return f"{part.name} is not beside the lead", "hear"
            muted = part.listening.muted and not workspace.audition.heard_only
            return (
                (f"{part.name} is muted", "mute") if muted else (f"other parts play without {part.name}", "hear_only")
            )
        if hearing.compare != "cleaned" and not hearing.in_turn:
            return f"{hearing.compare} plays", "compare"
        if (loop := hearing.loop_span()) and not _touches(before, part, *map(hearing.seconds, loop)):
            return "it is outside of the loop", "loop"
        return "", ""


def _differs(before: Part, part: Part) -> bool:
    return before is not part and before.plan != part.plan


def _touches(before: Part, part: Part, start: float, end: float) -> bool:
    """Whether anything is done between two seconds of a part that was not done before, or no longer."""
    rate = part.source.sample_rate
    first, last = round(start * rate), round(end * rate)

    def near(plan: Plan) -> set:
        return {one for one in plan if one.first < last and one.last > first}

    return near(before.plan) != near(part.plan)
