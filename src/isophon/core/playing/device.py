"""The sound device: PortAudio through sounddevice, or the clocked stand-in where there is none."""

from __future__ import annotations

import logging
import os
import time
from collections.abc import Callable
from typing import Any, NamedTuple

import msgspec
import numpy as np
import soxr

from isophon.core.standins.device import BLOCK, ClockedDevice, simulated

_log = logging.getLogger(__name__)

Fill = Callable[[np.ndarray], None]
_STALLED_S = 2.0  # without being asked for a block: the device is gone
MOST_DEVICES = 64  # that are listed


class Wanted(msgspec.Struct, frozen=True):
    """The output that was chosen: its name, '' for the system's own; rate in Hz and frames a block, 0 for its own."""

    name: str = ""
    rate: int = 0
    block: int = 0


SYSTEMS_OWN = Wanted()


class Output(NamedTuple):
    """An output that there is, and its own rate in Hz."""

    name: str
    rate: int


class SoundDevice:
    """An output of the system, two channels of float32; converts where it plays another rate.

    The default output of the system, else those of the other ways to it that PortAudio knows (ALSA, JACK); where
    another was chosen that one first.
    """

    silent = False

    def __init__(self, sample_rate: int, fill: Fill, wanted: Wanted = SYSTEMS_OWN) -> None:
        import sounddevice

        self._asked_at = time.monotonic()
        for device in self._outputs(sounddevice, wanted.name):
            own = round(sounddevice.query_devices(device)["default_samplerate"])
            for rate in dict.fromkeys((wanted.rate or sample_rate, sample_rate, own)):
                filled = fill if rate == sample_rate else Converted(sample_rate, rate, fill)
                try:
                    self._stream = self._open(sounddevice, device, rate, filled, wanted.block)
                except sounddevice.PortAudioError:
                    continue
                self.name, self.rate = str(sounddevice.query_devices(device)["name"]), rate
                self._stream.start()
                return
        raise OSError("no output can be opened")

    @staticmethod
    def _outputs(sounddevice: Any, name: str) -> list[int]:
        """The devices that may be opened, the chosen one first, then the system's own choice."""
        chosen = [i for i, one in enumerate(sounddevice.query_devices()) if name and one["name"] == name]
        ways = [api["default_output_device"] for api in sounddevice.query_hostapis()]
        return [device for device in dict.fromkeys([*chosen, sounddevice.default.device[1], *ways]) if device >= 0]

    def _open(self, sounddevice: Any, device: int, sample_rate: int, fill: Fill, block: int) -> Any:
        def callback(out: np.ndarray, _frames: int, _at: Any, _status: Any) -> None:
            self._asked_at = time.monotonic()
            fill(out)

        return sounddevice.OutputStream(device=device, samplerate=sample_rate, channels=2, dtype="float32",
                                        callback=callback, latency="low", blocksize=block)  # fmt: skip

    @property
    def alive(self) -> bool:
        """Whether it still asks for sound."""
        return bool(self._stream.active) and time.monotonic() - self._asked_at < _STALLED_S

    def close(self) -> None:
        """Stop and give the device back."""
        self._stream.close(ignore_errors=True)


class Converted:
    """A fill at the session's rate, asked at the device's."""

    def __init__(self, sample_rate: int, device_rate: int, fill: Fill) -> None:
        self._resampler = soxr.ResampleStream(sample_rate, device_rate, 2, "float32", "HQ")
        self._fill = fill
        self._rest = np.zeros((0, 2), np.float32)

    def __call__(self, out: np.ndarray) -> None:
        pieces, have = [self._rest], len(self._rest)
        while have < len(out):
            block = np.zeros((BLOCK, 2), np.float32)
            self._fill(block)
            pieces.append(self._resampler.resample_chunk(block))
            have += len(pieces[-1])
        joined = np.concatenate(pieces)
        out[:] = joined[: len(out)]
        self._rest = joined[len(out) :]


def outputs() -> list[Output]:
    """The outputs that there are now; none where PortAudio is missing. Asks PortAudio anew: not while one is open."""
    if os.environ.get("ISOPHON_SILENT"):
        return [Output(*row) for row in simulated()]
    try:
        import sounddevice

        rows = [one for one in sounddevice.query_devices() if one["max_output_channels"] >= 2]
        return [Output(str(one["name"]), round(one["default_samplerate"])) for one in rows][:MOST_DEVICES]
    except Exception as error:  # noqa: BLE001 (whatever the sound system says, the work goes on)
        _log.warning("outputs cannot be listed: %s", error)
        return []


def open_device(sample_rate: int, fill: Fill, wanted: Wanted = SYSTEMS_OWN) -> SoundDevice | ClockedDevice:
    """The output that was chosen, else the system's, else the stand-in, whose name says so.

    ISOPHON_SILENT in the environment asks for stand-ins alone.
    """
    if os.environ.get("ISOPHON_SILENT"):
        rows = sorted(simulated(), key=lambda row: row[0] != wanted.name)
        name, rate = rows[0] if rows else ("", sample_rate)
        rate = (wanted.rate or rate) if name else sample_rate
        return ClockedDevice(rate, fill if rate == sample_rate else Converted(sample_rate, rate, fill), name)
    try:
        return SoundDevice(sample_rate, fill, wanted)
    except Exception as error:  # noqa: BLE001 (PortAudio missing or no device: the work goes on)
        _log.warning("no output can be opened: %s", error)
        return ClockedDevice(sample_rate, fill)
