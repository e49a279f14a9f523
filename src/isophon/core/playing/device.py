"""The sound device: PortAudio through sounddevice, or the clocked stand-in where there is none."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any

import numpy as np
import soxr

from isophon.core.standins.device import BLOCK, ClockedDevice

Fill = Callable[[np.ndarray], None]


class SoundDevice:
    """An output of the system, two channels of float32; converts where it plays another rate.

    The default output of the system, else those of the other ways to it that PortAudio knows (ALSA, JACK).
    """

    silent = False

    def __init__(self, sample_rate: int, fill: Fill) -> None:
        import sounddevice

        for device in self._outputs(sounddevice):
            own = round(sounddevice.query_devices(device)["default_samplerate"])
            for rate, filled in ((sample_rate, fill), (own, _Converted(sample_rate, own, fill))):
                try:
                    self._stream = self._open(sounddevice, device, rate, filled)
                except sounddevice.PortAudioError:
                    continue
                self.name = str(sounddevice.query_devices(device)["name"])
                self._stream.start()
                return
        raise OSError("no output can be opened")

    @staticmethod
    def _outputs(sounddevice: Any) -> list[int]:
        """The devices that may be opened, the system's own choice first."""
        ways = [api["default_output_device"] for api in sounddevice.query_hostapis()]
        return [device for device in dict.fromkeys([sounddevice.default.device[1], *ways]) if device >= 0]

    @staticmethod
    def _open(sounddevice: Any, device: int, sample_rate: int, fill: Fill) -> Any:
        def callback(out: np.ndarray, frames: int, time: Any, status: Any) -> None:
            fill(out)

        return sounddevice.OutputStream(
            device=device, samplerate=sample_rate, channels=2, dtype="float32", callback=callback, latency="low"
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
    """The system's output, else the stand-in, whose name says so; ISOPHON_SILENT in the environment asks for that."""
    if os.environ.get("ISOPHON_SILENT"):
        return ClockedDevice(sample_rate, fill)
    try:
        return SoundDevice(sample_rate, fill)
    except Exception:  # PortAudio missing or no device: the work goes on
        return ClockedDevice(sample_rate, fill)
