"""The low end of the voice, and of a burst: as sung, and as it is cleaned."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.jobs import Job
from isophon.app.sheets.picture import Scale, SheetPicture, line, points
from isophon.app.translation import tr
from isophon.core.passes.pop.mark import PopMark
from isophon.core.survey import VOICED
from isophon.core.takes.fine_spectrum import fine_levels

_LOW_HZ, _HIGH_HZ = 20.0, 500.0
_AROUND_S, _PLACES, _DEPTH_DB = 0.05, 6, 54.0
_SMOOTH = 0.06  # of an octave, on either side


class PopLows(SheetPicture):
    """The selected burst, else the one that stands out most; over the usual lows of the voice."""

    kind = "pop"
    words = "20 to 500 Hz: the voice (filled), the selected pop as sung (thin) and cleaned (thick)"

    _job: Job | None = None
    _seen: tuple[tuple[Any, ...], dict[str, np.ndarray]] | None = None

    def look(self) -> None:
        """Work the spectra out in a thread."""
        mark, take = self._mark(), self.workspace.take
        if mark is None or take.surveyed is None or self._job is not None:
            return
        plan = self.workspace.part.plan
        key = take, mark.span, plan
        if self._seen is not None and self._seen[0] == key:
            return
        survey, renderer, rate = take.surveyed.survey, take.renderer, take.recording.sample_rate
        known = self._seen[1].get("voice") if self._seen is not None and self._seen[0][0] is take else None
        start, end = (round(t * rate) for t in (mark.span[0] - _AROUND_S, mark.span[1] + _AROUND_S))

        def work(_progress: Callable[[float], None]) -> object:
            voiced = np.flatnonzero(survey.state == VOICED)
            places = voiced[np.linspace(0, len(voiced) - 1, _PLACES + 2).astype(int)[1:-1]] if len(voiced) else []
            levels = {"sung": _smooth(renderer.read(start, end - start), rate),
                      "cleaned": _smooth(renderer.cleaned(plan, start, end - start), rate)}  # fmt: skip
            if known is not None:
                levels["voice"] = known
            elif len(places):
                spans = (renderer.read(round(frame * survey.hop_s * rate), rate // 2) for frame in places)
                levels["voice"] = np.mean([_smooth(span, rate) for span in spans], axis=0)
            return key, levels

        self._job = Job(work)
        self._job.done.connect(self._done)
        self._job.failed.connect(self._failed)
        self._job.start()

    def _failed(self, _words: str) -> None:
        self._done(None)  # the take's own trouble is shown where it is listed

    def _done(self, result: Any) -> None:
        self._job = None
        if result is not None:
            self._seen = result
            self.look()
        self.update()

    def _mark(self) -> PopMark | None:
        mark, pops = self.workspace.mark, self.workspace.part.of(PopMark)
        if isinstance(mark, PopMark):
            return mark
        return max(pops, key=lambda one: one.standout_db, default=None)

    def draw(self, painter: QPainter, box: QRectF) -> str:
        """Draw it into a box."""
        mark = self._mark()
        if mark is None:
            return "No pops were found in this part." if self.workspace.part.found else ""
        if self._seen is None:
            self.look()
            return ""
        levels = self._seen[1]
        scale = Scale(box, _LOW_HZ, _HIGH_HZ, log=True)
        scale.draw(painter, (30, 60, 120, 250), ("30 Hz", "60", "120", "250"))
        top = max(float(one.max()) for one in levels.values()) + 3
        x = scale.x(_hz())

        def y(level: np.ndarray) -> np.ndarray:
            return box.top() + theme.u(14) + (top - level) / _DEPTH_DB * (box.height() - theme.u(14))

        painter.setClipRect(box)
        if "voice" in levels:
            painter.setPen(QPen(theme.RULE, 1))
            painter.setBrush(theme.PANEL)
            painter.drawPolygon(QPolygonF([box.bottomLeft(), *points(x, y(levels["voice"])), box.bottomRight()]))
        for name, pen in (("sung", QPen(theme.OVER, 1.4)), ("cleaned", QPen(theme.DONE, 2.2))):
            painter.setPen(pen)
            painter.drawPolyline(line(x, y(levels[name])))
        painter.setClipping(False)
        painter.setPen(theme.SOFT_INK)
        which = "the selected pop" if mark is self.workspace.mark else "the loudest pop"
        painter.drawText(QPointF(box.left() + 5, box.top() + theme.u(11)), tr(f"{which}, and the voice (filled)"))
        return ""


def _hz() -> np.ndarray:
    return np.geomspace(_LOW_HZ, _HIGH_HZ, 120)


def _smooth(samples: np.ndarray, rate: int) -> np.ndarray:
    """Levels at :func:`_hz`, dB, each the mean power over an eighth of an octave."""
    bins, levels = fine_levels(samples, rate)
    power = np.concatenate([[0.0], np.cumsum(10 ** (levels / 10))])
    first = np.searchsorted(bins, _hz() * 2**-_SMOOTH)
    last = np.maximum(np.searchsorted(bins, _hz() * 2**_SMOOTH), first + 1)
    return 10 * np.log10((power[last] - power[first]) / (last - first) + 1e-16)
