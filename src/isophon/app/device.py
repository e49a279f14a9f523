"""The sound device: PortAudio through sounddevice, or the clocked stand-in where there is none."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from isophon.core.standins.device import ClockedDevice

Fill = Callable[[np.ndarray], None]


class SoundDevice:
    """The system's output, two channels of float32."""

    silent = False

    def __init__(self, sample_rate: int, fill: Fill) -> None:
        import sounddevice

        def callback(out: np.ndarray, frames: int, time: Any, status: Any) -> None:
            fill(out)

        self._stream = sounddevice.OutputStream(
            samplerate=sample_rate, channels=2, dtype="float32", callback=callback, latency="low"
        )
        self.name = str(sounddevice.query_devices(self._stream.device)["name"])
        self._stream.start()

    def close(self) -> None:
        """Stop and give the device back."""
        self._stream.close()


def open_device(sample_rate: int, fill: Fill) -> SoundDevice | ClockedDevice:
    """The system's output if it plays this rate, else the stand-in, whose name says so."""
    try:
        return SoundDevice(sample_rate, fill)
    except Exception:  # PortAudio missing, no device, or a rate it refuses: the work goes on
        return ClockedDevice(sample_rate, fill)
