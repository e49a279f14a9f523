"""The output that is open: the chosen one, the next where that goes away, and the chosen one again once it is back."""

from __future__ import annotations

import logging
import os
import time
from typing import Any, NamedTuple

from isophon.core.playing.device import Fill, Output, Wanted, open_device, outputs

_log = logging.getLogger(__name__)

_LOOK_FOR_IT_S = 3.0  # s between looks for an output that went away


class Opened(NamedTuple):
    """What is open: its name, whether it is silent, and its rate in Hz.

    ``gone``: the name of the one that is wanted and not there, '' for none.
    """

    name: str = ""
    silent: bool = False
    rate: int = 0
    gone: str = ""


class Openings:
    """Holds the one output that is open, None before the first."""

    def __init__(self) -> None:
        self.device: Any = None
        self._gone = ""
        self._looked_at = 0.0
        self._sample_rate, self._wanted = 48_000, Wanted()
        self._fill: Fill = lambda _block: None

    def open(self, sample_rate: int, fill: Fill, wanted: Wanted) -> Opened:
        """Open the output that is wanted, or what there is instead."""
        self.close()
        self._sample_rate, self._fill, self._wanted = sample_rate, fill, wanted
        self._reopen()
        self._gone = wanted.name if wanted.name not in ("", self.device.name) else ""
        return self._opened()

    def close(self) -> None:
        """Give the output back."""
        if self.device is not None:
            self.device.close()
            self.device = None

    def look(self, idle: bool) -> Opened:
        """See whether the output is still there, and whether one that went away is back; ``idle``: nothing is heard."""
        if self.device is None:
            return Opened()
        now = time.monotonic()
        if not self.device.alive:
            _log.warning("the output %s is gone", self.device.name)
            self._gone = self._wanted.name or self.device.name
            self._ask_anew()
            self._reopen()
            if self.device.name == self._gone:
                self._gone = ""
        elif self._gone and (idle or self.device.silent or _simulates()) and now - self._looked_at > _LOOK_FOR_IT_S:
            self._look_for_it()
        return self._opened()

    def listed(self, idle: bool) -> list[Output]:
        """The outputs that there are."""
        if idle and self.device is not None and not _simulates():
            self._ask_anew()
            self._reopen()
        return outputs()

    def _look_for_it(self) -> None:
        self._looked_at = time.monotonic()
        self._ask_anew()
        is_back = any(one.name == self._gone for one in outputs())
        self._gone = "" if is_back else self._gone
        if is_back or self.device is None:
            self._reopen()

    def _reopen(self) -> None:
        self.close()
        self.device = open_device(self._sample_rate, self._fill, self._wanted)

    def _opened(self) -> Opened:
        return Opened(self.device.name, self.device.silent, self.device.rate, self._gone)

    def _ask_anew(self) -> None:
        """PortAudio lists devices once; it is begun anew, which nothing that is open outlives."""
        if _simulates():
            return
        self.close()
        try:
            import sounddevice

            sounddevice._terminate()
            sounddevice._initialize()
        except Exception as error:  # noqa: BLE001 (it may be missing, or fail: the stand-in plays then)
            _log.warning("the sound system cannot be asked anew: %s", error)


def _simulates() -> bool:
    return bool(os.environ.get("ISOPHON_SILENT"))
