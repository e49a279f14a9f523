"""The pictures of the map for what is in view: the sharp one where it is there, else one from levels that are kept."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import NamedTuple

import msgspec
import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage

from isophon.app.model.workspace import Workspace
from isophon.app.views.map_maker import MapMaker, Sight, Wanted, process, roughly
from isophon.core.takes.changes import MOST, MOVING, Change, changes_of
from isophon.core.takes.pictures import LOWS, Axis, Spectrogram

_SHARP_BELOW_S, _LINES_BELOW_S = 20.0, 9.0
_COLUMN, _ROW, _MOST_PIXELS = 2, 2, 1_200_000  # pixels
_WINDOW_S, _WINDOW_COLUMNS = (0.004, 0.04), 3.0  # a window's length: so many columns, within limits

_MARGIN = 0.2  # of what is in view, before and after it

View = tuple[float, float]


def _seconds_of(image: QImage, seen: View, span: View) -> QRectF:
    """Where in a picture of the seconds ``seen`` some of them lie."""
    scale = image.width() / (seen[1] - seen[0])
    return QRectF((span[0] - seen[0]) * scale, 0, (span[1] - span[0]) * scale, image.height())


class Layer(NamedTuple):
    """A part of a picture, and the box on the screen that it is drawn into."""

    image: QImage
    source: QRectF
    box: QRectF


class MapPictures:
    """Pictures of the selected part for boxes on the screen."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.as_sung = False
        self.maker = MapMaker()
        self._rough: tuple[Wanted, QImage, QRectF] | None = None
        self._changes: tuple[Mapping[str, float], tuple[str, ...], list[Change], np.ndarray] | None = None

    def shown(self, view: View, box: QRectF, ratio: float, ask: bool) -> list[Layer]:
        """For seconds that are in view, from below; none where nothing is known yet.

        ``ratio``: of the screen's pixels to the box's; ``ask``: for a sharp one.
        """
        take, (start, end) = self.workspace.take, view
        inside = start >= 0 and end <= take.recording.duration
        short = end - start <= _SHARP_BELOW_S
        if take.surveyed is not None and short and inside and not take.trouble:
            wanted = self.sharp(view, box, ratio)
            made = self.maker.made
            if (ask or (made and made.wanted.sight == wanted.sight)) and len(wanted.plan) <= MOST:
                self.maker.ask(wanted)
            if (image := self.maker.image(wanted)) is not None:
                return [Layer(image, _seconds_of(image, wanted.sight.view, view), box)]
        return self.roughly(view, box, patched=short or not ask)

    def roughly(self, view: View, box: QRectF, patched: bool = True) -> list[Layer]:
        """From the levels that are kept of the whole take.

        ``patched``: over them what the last sharp one shows of the view, as long as a sharp one is to come.
        """
        axis, surveyed = self.workspace.pass_.trace.axis, self.workspace.take.surveyed
        if surveyed is None or box.width() < 1:
            return []
        shared = self._shared(view, box) if patched else []
        if shared and shared[0].box == box:
            return shared
        spectrogram: Spectrogram = surveyed.lows if axis.high <= LOWS.high else surveyed.spectrogram
        wanted = self._wanted(spectrogram.axis, view, box, 1.0)
        if self._rough is None or self._rough[0] != wanted:
            image = roughly(spectrogram.columns(*view, wanted.sight.columns), wanted)
            top, bottom = (spectrogram.axis.place(hz) * image.height() for hz in (axis.high, axis.low))
            self._rough = wanted, image, QRectF(0, top, image.width(), bottom - top)
        return [Layer(*self._rough[1:], box), *shared]

    def _shared(self, view: View, box: QRectF) -> list[Layer]:
        """What the last sharp picture shows of a view, as long as what is done there is still the same."""
        made = self.maker.made
        if made is None or made.wanted.sight.take is not self.workspace.take:
            return []
        wanted, axis = made.wanted, self.workspace.pass_.trace.axis
        its, seen = wanted.sight.axis, wanted.sight.view
        shared = max(view[0], seen[0]), min(view[1], seen[1])
        same = (its.low, its.high, wanted.changes, wanted.sight.generation) == (
            axis.low, axis.high, () if self.as_sung else self._changes_in(seen), process().generation)  # fmt: skip
        if not same or shared[1] <= shared[0]:
            return []
        if shared == view:
            return [Layer(made.image, _seconds_of(made.image, seen, view), box)]
        left, right = (box.left() + (t - view[0]) / (view[1] - view[0]) * box.width() for t in shared)
        target = QRectF(left, box.top(), right - left, box.height())
        return [Layer(made.image, _seconds_of(made.image, seen, shared), target)]

    def sharp(self, view: View, box: QRectF, ratio: float) -> Wanted:
        """What is asked for, as sharp in time and frequency as the zoom lets be seen; wider than what is in view."""
        axis, (start, end) = self.workspace.pass_.trace.axis, view
        window_s = _WINDOW_COLUMNS * (end - start) / box.width() * _COLUMN
        fixed = axis.high <= LOWS.high or axis.window_s < _WINDOW_S[0]  # lows need long windows, clicks short ones
        least, most = (axis.window_s, axis.window_s) if fixed else _WINDOW_S
        window_s = round(min(max(window_s, least), most), 4)
        axis = replace(axis, rows=max(96, int(box.height()) // _ROW), window_s=window_s)
        wider = self._with_margins(view, box.width())
        box = QRectF(0, 0, round((wider[1] - wider[0]) / (end - start) * box.width()), box.height())
        wanted = msgspec.structs.replace(self._wanted(axis, wider, box, ratio), lines=end - start <= _LINES_BELOW_S)
        if self.as_sung:
            return wanted
        part, rate = self.workspace.part, self.workspace.part.source.sample_rate
        first, last = wider[0] * rate, wider[1] * rate
        plan = part.plan_without(self._without)
        return msgspec.structs.replace(wanted, plan=tuple(t for t in plan if t.last > first and t.first < last))

    def _with_margins(self, view: View, width: float) -> View:
        """A view with margins by which it can be moved, of whole columns and within the take."""
        column_s = (view[1] - view[0]) / width * _COLUMN
        most = _MARGIN * width // _COLUMN
        before, after = (min(most, room // column_s)
                         for room in (view[0], self.workspace.take.recording.duration - view[1]))  # fmt: skip
        return view[0] - before * column_s, view[1] + after * column_s

    @property
    def _without(self) -> tuple[str, ...]:
        return *self.workspace.audition.unheard, *MOVING

    def _wanted(self, axis: Axis, view: View, box: QRectF, ratio: float) -> Wanted:
        columns = int(box.width())
        sight = Sight(self.workspace.take, view, axis, max(2, columns // _COLUMN), process().generation)
        ratio = min(ratio, max(1.0, (_MOST_PIXELS / (columns * box.height())) ** 0.5))  # more take too long to draw
        size = round(columns * ratio), round(box.height() * ratio)
        changes = () if self.as_sung else self._changes_in(view)
        return Wanted(sight, self.workspace.part.voice_lufs, size, False, changes)

    def _changes_in(self, view: View) -> tuple[Change, ...]:
        """What is done in a view; all that is done is kept, since a view that moves asks at every frame."""
        part, without = self.workspace.part, self._without
        cached = self._changes
        if cached is None or cached[0] is not part.changes or cached[1] != without:
            changes = changes_of(part, without)
            spans = np.array([(change.start, change.end) for change in changes]).reshape(-1, 2)
            cached = self._changes = part.changes, without, changes, spans
        _, _, changes, spans = cached
        return tuple(changes[i] for i in np.flatnonzero((spans[:, 1] > view[0]) & (spans[:, 0] < view[1])))
