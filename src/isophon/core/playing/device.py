"""The sound device: PortAudio through sounddevice, or the clocked stand-in where there is none."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import soxr

from isophon.core.standins.device import BLOCK, ClockedDevice

Fill = Callable[[np.ndarray], None]


class SoundDevice:
    """The system's output, two channels of float32; converts where the device plays another rate."""

    silent = False

    def __init__(self, sample_rate: int, fill: Fill) -> None:
        import sounddevice

        try:
            self._stream = self._open(sounddevice, sample_rate, fill)
        except sounddevice.PortAudioError:
            own = round(sounddevice.query_devices(kind="output")["default_samplerate"])
            self._stream = self._open(sounddevice, own, _Converted(sample_rate, own, fill))
        self.name = str(sounddevice.query_devices(self._stream.device)["name"])
        self._stream.start()

    @staticmethod
    def _open(sounddevice: Any, sample_rate: int, fill: Fill) -> Any:
        def callback(out: np.ndarray, frames: int, time: Any, status: Any) -> None:
            fill(out)

        return sounddevice.OutputStream(
            samplerate=sample_rate, channels=2, dtype="float32", callback=callback, latency="low"
        )

    def close(self) -> None:
        """Stop and give the device back."""
        self._stream.close()


class _Converted:
    """A fill at the take's rate, asked at the device's."""

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
        whole = np.concatenate(pieces)
        out[:] = whole[: len(out)]
        self._rest = whole[len(out) :]


def open_device(sample_rate: int, fill: Fill) -> SoundDevice | ClockedDevice:
    """The system's output, else the stand-in, whose name says so."""
    try:
        return SoundDevice(sample_rate, fill)
    except Exception:  # PortAudio missing or no device: the work goes on
        return ClockedDevice(sample_rate, fill)
