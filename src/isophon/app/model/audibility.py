"""How audible the blemishes of all parts are in the mix, and which of them are worth hearing."""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from functools import partial
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from PySide6.QtCore import QObject, Signal

from isophon.app.model.jobs import Job
from isophon.app.model.passes import Pass
from isophon.core.audio.files import Recording
from isophon.core.finding import survey_recording
from isophon.core.marks import Mark
from isophon.core.session.audible import Beside, audible_db, judged, worth_hearing
from isophon.core.session.chain import Chain
from isophon.core.session.chain_curves import ChainGains, chain_gains
from isophon.core.session.items import Guide, Source
from isophon.core.session.model import Part
from isophon.core.survey import Survey
from isophon.core.takes.take import Absent

if TYPE_CHECKING:
    from isophon.app.model.workspace import Workspace

SECONDS_A_MARK = 4.0  # to hear it as sung and cleaned, and to decide
_AT_ONCE = 6  # marks in one turn of the window


class Audible(NamedTuple):
    """How far what is taken away stands over what masks it in the mix, dB: as sung, and after the rough chain."""

    as_sung_db: float
    after_chain_db: float


_Known = dict[str, tuple[Any, Audible | None]]  # by mark: for what it was worked out


class Audibility(QObject):
    """Tells how far the marks of parts stand over what masks them: the part itself, the other parts, the music.

    As sung or after the rough chain, whichever is more. What is muted masks nothing. Each mark is worked out once for
    what it depends on. ``changed``: the music is known.
    """

    changed = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._known: dict[str, tuple[tuple, _Known]] = {}  # by part: in what context
        self._music: dict[Source, Survey | None] = {}
        self._gains: dict[str, tuple[Survey, Chain, ChainGains]] = {}  # by part
        self._failed: set[Source] = set()
        self._job: Job | None = None

    @property
    def complete(self) -> bool:
        """Whether everything that sounds is known; what cannot be used does not sound."""
        parts = [one for one in self._workspace.session.parts if not one.listening.muted and self._usable(one)]
        music = all(self._music.get(bed.source) is not None for bed in self._beds())
        return music and all(self._survey(part) is not None for part in parts)

    def of(self, part: Part, which: Pass) -> dict[str, float]:
        """How far each changed mark of a pass stands over its threshold, dB, by name; none before the survey."""
        return dict(chain.from_iterable(some.items() for some in self._in_pieces(part, which)))

    def of_mark(self, part: Part, mark: Mark) -> Audible | None:
        """The same for one mark, as sung and after the rough chain; None: nothing is changed, or it is not known."""
        survey = self._survey(part)
        if survey is None or not part.change(mark):
            return None
        return self._of_mark(part, mark, survey, *self._context(part, survey))

    def worth(self, part: Part, which: Pass) -> dict[str, float]:
        """How much each changed mark of a pass is worth hearing; 0: it cannot be heard in the mix."""
        over, risks = self.of(part, which), self._workspace.risks_of(part, which)
        return {mark.id: worth_hearing(over.get(mark.id), part, mark, risks.get(mark.id, 0.0))
                for mark, _change in part.changed(which.kind)}  # fmt: skip

    def counted(self, passes: Sequence[Pass]) -> Generator[None, None, dict[int, tuple[int, int]]]:
        """How many undecided marks are worth hearing, and how many cannot be heard, by station; in steps."""
        self._ask_for_music()
        counts = {}
        for i, which in enumerate(passes, 1):
            worth = inaudible = 0
            for part in self._workspace.session.parts:
                undecided = {mark.id for mark in part.undecided(which.kind)}
                if judged(which.kind):
                    for some in self._in_pieces(part, which):
                        inaudible += sum(over <= 0 for name, over in some.items() if name in undecided)
                        yield
                worth += len(undecided)
            counts[i] = worth - inaudible, inaudible
        return counts

    def inaudible(self, which: Pass) -> dict[str, list[str]]:
        """The undecided marks of a pass that cannot be heard in the mix, by part; none where that is not known."""
        if not judged(which.kind):
            return {}
        marks: dict[str, list[str]] = {}
        for part in self._workspace.session.parts:
            undecided = {mark.id for mark in part.undecided(which.kind)}
            names = [name for name, over in self.of(part, which).items() if over <= 0 and name in undecided]
            marks |= {part.id: names} if names else {}
        return marks

    def _in_pieces(self, part: Part, which: Pass) -> Generator[dict[str, float], None, None]:
        survey = self._survey(part)
        if survey is None or not judged(which.kind):
            return
        beside, known = self._context(part, survey)
        some: dict[str, float] = {}
        for i, (mark, _change) in enumerate(part.changed(which.kind), 1):
            over = self._of_mark(part, mark, survey, beside, known)
            some |= {} if over is None else {mark.id: max(over)}
            if i % _AT_ONCE == 0:
                yield some
                some = {}
        yield some

    def _of_mark(self, part: Part, mark: Mark, survey: Survey, beside: list[Beside], known: _Known) -> Audible | None:
        key = mark.span, mark.band, part.change(mark)
        if mark.id not in known or known[mark.id][0] != key:
            as_sung = audible_db(part, mark, survey, beside)
            after = audible_db(part, mark, survey, beside, self._chained(part, survey))
            known[mark.id] = key, None if as_sung is None or after is None else Audible(as_sung, after)
        return known[mark.id][1]

    def _chained(self, part: Part, survey: Survey) -> ChainGains:
        """What the session's rough chain does to a part; worked out once for each chain."""
        chain = self._workspace.session.chain
        if part.id not in self._gains or self._gains[part.id][:2] != (survey, chain):
            self._gains[part.id] = survey, chain, chain_gains(survey, chain)
        return self._gains[part.id][2]

    def _context(self, part: Part, survey: Survey) -> tuple[list[Beside], _Known]:
        """What sounds with a part, and what is known of its marks as long as that is the same."""
        others = [one for one in self._workspace.session.parts if one.id != part.id and not one.listening.muted]
        surveys = [(one, self._survey(one)) for one in others]
        beside = [Beside(other, one.offset_s, one.listening.gain_db, self._chained(one, other))
                  for one, other in surveys if other is not None]  # fmt: skip
        for bed in self._beds():
            if (music := self._music.get(bed.source)) is not None:
                beside.append(Beside(music, bed.offset_s, bed.listening.gain_db))
        gains = part.offset_s, part.listening.gain_db, self._workspace.session.chain
        context = survey, *gains, *((b.survey, b.offset_s, b.gain_db) for b in beside)
        if part.id not in self._known or self._known[part.id][0] != context:
            self._known[part.id] = context, {}
        return beside, self._known[part.id][1]

    def _survey(self, part: Part) -> Survey | None:
        surveyed = self._workspace.pool.take(part.source).surveyed
        return None if surveyed is None else surveyed.survey

    def _usable(self, item: Part | Guide) -> bool:
        take = self._workspace.pool.take(item.source)
        return not take.trouble and not isinstance(take.recording, Absent) and item.source not in self._failed

    def _beds(self) -> list[Guide]:
        beds = (guide for guide in self._workspace.session.guides if guide.kind == "bed")
        return [bed for bed in beds if not bed.listening.muted and self._usable(bed)]

    def _ask_for_music(self) -> None:
        """Survey the music, one recording after the other, once its picture is there."""
        if None in self._music.values():
            return
        for guide in self._beds():
            take = self._workspace.pool.take(guide.source)
            if guide.source in self._music or take.wave is None:
                continue
            self._music[guide.source] = None
            self._job = Job(partial(_surveyed, take.recording.path))
            self._job.done.connect(self._music_known)  # a method of its own: it is let go of when the session closes
            self._job.failed.connect(self._music_failed)
            self._job.start()
            return

    def _music_known(self, survey: Survey) -> None:
        self._music |= {source: survey for source, known in self._music.items() if known is None}
        self.changed.emit()

    def _music_failed(self, words: str) -> None:
        """Go on without music that cannot be surveyed, and say so."""
        waiting = {source for source, known in self._music.items() if known is None}
        self._failed |= waiting
        self._music = {source: known for source, known in self._music.items() if source not in waiting}
        self._workspace.troubled.emit(f"What can be heard is worked out without this music: {words}")
        self.changed.emit()


def _surveyed(path: Path, progress: Callable[[float], None]) -> Survey:
    with Recording(path) as recording:
        return survey_recording(recording, progress)


def time_for(marks: int, pace_s: float = SECONDS_A_MARK) -> str:
    """How long it takes to decide so many marks at a pace, s a mark, in words."""
    minutes = marks * pace_s / 60
    return f"about {max(1, round(minutes))} min" if minutes >= 0.75 else "less than a minute"
