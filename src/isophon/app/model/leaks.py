"""What leaked into the parts: what it is learned from, and which parts ought to be looked through again."""

from __future__ import annotations

from collections.abc import Collection

from PySide6.QtCore import QObject, Signal

from isophon.app.model.session_keeper import SessionKeeper
from isophon.app.model.take_pool import TakePool
from isophon.core.session.items import Guide, Source
from isophon.core.session.model import Part
from isophon.core.work.leak_learning import CueFile, Learned, Lesson, lesson_again

CLICK = "click"
Chosen = tuple[str, ...]


class Leaks(QObject):
    """Learns leaks in the background; what was learned comes back as an edit.

    What a part's leak is learned from is named by the ids of references and other parts, or by ``CLICK`` alone: the
    take's own regular click. ``learned()``: there is news of some.
    """

    learned = Signal()
    notice = Signal(str)

    def __init__(self, keeper: SessionKeeper, pool: TakePool, parent: QObject) -> None:
        super().__init__(parent)
        self._keeper, self._pool = keeper, pool
        self._chosen: dict[str, Chosen] = {}  # until something is learned from it
        pool.leak_learned.connect(self._adopt)

    @property
    def cues(self) -> list[Guide]:
        """The references that are cues."""
        return [guide for guide in self._keeper.session.guides if guide.kind == "cue"]

    def sources(self, part: Part) -> list[tuple[str, str]]:
        """What a part's leak can be learned from: names and words."""
        session = self._keeper.session
        guides = [(guide.id, guide.name if guide.kind == "cue" else f"{guide.name}, in the headphones")
                  for guide in session.guides]  # fmt: skip
        others = [(other.id, f"{other.name}, in the room") for other in session.parts if other.id != part.id]
        return [*guides, (CLICK, "its own regular click"), *others]

    def chosen(self, part: Part) -> Chosen:
        """What a part's leak is learned from: as chosen, else as it was learned, else the cues, else its click."""
        there = {name for name, _ in self.sources(part)}
        wanted = [self._chosen.get(part.id, ())]
        if part.leak is not None:
            wanted.append((CLICK,) if part.leak.own_click else tuple(feed.item for feed in part.leak.feeds))
        wanted.append(tuple(cue.id for cue in self.cues))
        return next((names for names in wanted if names and there.issuperset(names)), (CLICK,))

    def choose(self, part_ids: Collection[str], names: Chosen) -> None:
        """Learn the leak of parts from these, next time."""
        self._chosen |= dict.fromkeys(part_ids, names)

    def toggle(self, part: Part, part_ids: Collection[str], name: str) -> None:
        """Learn from something more, or no longer; a click is learned from alone."""
        now = self.chosen(part)
        rest = tuple(one for one in now if one not in (name, CLICK))
        self.choose(part_ids, (CLICK,) if name == CLICK or not (rest or name not in now) else
                    rest if name in now else (*rest, name))  # fmt: skip

    def learn(self, part_ids: Collection[str], names: Chosen, span: tuple[float, float] | None = None) -> None:
        """Learn the leaks of parts from these; from one span in s alone, or from where they are clearest."""
        moments = ((round(span[0], 3), round(span[1], 3)),) if span else ()
        for part in self._keeper.session.parts:
            others = tuple(name for name in names if name != part.id)
            if part.id in part_ids and others:
                self._chosen[part.id] = others
                self._pool.learn(part.source, Lesson(self._cues_for(part, others), moments))

    def learn_what_is_gone(self) -> None:
        """Learn again what this session knew of leaks and is not kept on this machine (any more)."""
        for part in self._keeper.session.parts:
            lesson, take = lesson_again(self._keeper.session, part), self._pool.take(part.source)
            if lesson is not None and not take.trouble and take.renderer.sounds(lesson.key) is None:
                self._pool.learn(part.source, lesson)

    def stale(self) -> list[Part]:
        """The parts whose marks were found before the bleed was changed."""
        return [part for part in self._keeper.session.parts if part.stale]

    def look_again(self) -> None:
        """Find the marks of all those parts again; what was decided by hand stays."""
        for part in self.stale():
            self._pool.look_again(part.source, part.leak, part.removal)

    def _cues_for(self, part: Part, wanted: Chosen) -> tuple[CueFile, ...]:
        nudge = part.cue_nudge_s
        return tuple(CueFile(item.source.path, round(item.offset_s - part.offset_s + nudge, 6), item.id)
                     for item in self._keeper.session.items if item.id in wanted)  # fmt: skip

    def _adopt(self, source: Source, learned: Learned) -> None:
        facts = learned.facts
        for part in self._keeper.session.parts:
            if part.source != source:
                continue
            name = part.name
            self._chosen.pop(part.id, None)
            if part.leak is not None and facts.key and part.leak.key == facts.key:
                continue  # it was known, and only its sound was gone
            self._keeper.adopt_leak(part.id, facts, learned.marks)
            if facts.key:
                what = "its own click" if facts.own_click else ", ".join(facts.cues)
                self.notice.emit(f"Leak found in {name}: {facts.less_db:.0f} dB less of {what}. The marks were found "
                               "with it still there; Find again finds them without it.")  # fmt: skip
            elif facts.own_click:
                self.notice.emit(f"No regular click was found in {name}; nothing is removed there.")
            else:
                self.notice.emit(f"No leak of {', '.join(facts.cues)} was found in {name}; nothing is removed there.")
        self.learned.emit()
