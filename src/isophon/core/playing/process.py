"""The process that sounds: the player with its device, away from the window, whose work it never waits for.

``python -m isophon.core.playing.process PARENT DESCRIPTOR`` reads messages from standard input, each a length (8 bytes,
little end first) and a pickled tuple of a name and arguments, as :mod:`.remote` sends them; it tells numbers by the
:class:`.State` at DESCRIPTOR and the rest as lines of JSON. The device has a process of its own (:mod:`.output`). It
ends when its input or the process PARENT does.
"""

from __future__ import annotations

import gc
import logging
import os
import pickle
import signal
import sys
from collections.abc import Callable
from dataclasses import replace
from typing import Any, BinaryIO

import msgspec

from isophon.core import log, memory
from isophon.core.errors import InputError
from isophon.core.lifetime import end_with_parent
from isophon.core.playing.device import Wanted
from isophon.core.playing.heard_as import HeardAs
from isophon.core.playing.mix import Strip
from isophon.core.playing.openings import Opened
from isophon.core.playing.output import OutputProcess
from isophon.core.playing.player import Player
from isophon.core.playing.ring import Ring
from isophon.core.playing.state import LENGTH_BYTES, LEVELS, State
from isophon.core.render_cache import RenderCache
from isophon.core.session.items import Source
from isophon.core.staging import Plan
from isophon.core.takes.take import Sound, open_sound

_log = logging.getLogger(__name__)

_OWN = {
    "open",
    "close",
    "set_device",
    "look",
    "listed",
    "plan",
    "drop",
    "scene",
    "play",
    "forget",
    "clear",
    "played",
    "unplayed",
}
_SWITCH_S = 0.0005  # what is asked for waits no longer than this for what is rendered in another thread


class SoundProcess:
    """Carries out messages: each is a method of the same name, its own, the player's, or of how it is heard."""

    def __init__(self, state: State, ring: Ring, output: OutputProcess, tell: Callable[[dict[str, Any]], None]) -> None:
        self._state, self._ring, self._output, self._tell = state, ring, output, tell
        self._cache = RenderCache()
        self._sounds: dict[Source, Sound] = {}
        self._plans: dict[int, Plan] = {0: ()}
        self._player: Player | None = None
        self._version = (0, 0)  # the window's, and the player's
        self._peaks_read, self._trouble = 0.0, ""
        self._wanted, self._opened = Wanted(), Opened()

    def open(self, sample_rate: int, samples: int) -> None:
        """Begin with nothing to be heard, through a device that is opened now."""
        self.close()
        self._player = Player(sample_rate, samples, lambda rate, _: self._output.open(rate, self._wanted), self._ring,
                              self.publish)  # fmt: skip
        self._opened = self._output.opened
        self._tell_device()

    def set_device(self, wanted: Wanted) -> None:
        """Choose the output; it is opened where something is to be heard."""
        self._wanted = wanted
        if self._player is not None:
            self._opened = self._output.open(self._player.sample_rate, wanted).opened
            self._tell_device()

    def look(self) -> None:
        """See whether the output is still there."""
        if self._player is not None and self._output.look() != self._opened:
            self._opened = self._output.opened
            self._tell_device()

    def listed(self) -> None:
        """Tell which outputs there are."""
        self._tell({"outputs": [list(one) for one in self._output.listed()]})

    def _tell_device(self) -> None:
        name, silent, rate, gone = self._opened
        self._tell({"device": name, "silent": silent, "rate": rate, "gone": gone})

    def close(self) -> None:
        """Give the device and the recordings back."""
        if self._player is not None:
            self._player.close()
            self._player = None
        for sound in self._sounds.values():
            sound.recording.close()
        self._sounds, self._plans = {}, {0: ()}
        self._cache.clear()

    def plan(self, number: int, treatments: Plan) -> None:
        """The next treatments of a plan, by whose number a scene names it."""
        self._plans[number] = self._plans.get(number, ()) + treatments

    def drop(self, number: int) -> None:
        """A plan that no scene will name any more."""
        self._plans.pop(number, None)

    def scene(self, version: int, strips: tuple[Strip, ...], samples: int) -> None:
        """What is heard from now on; the strips hold sources and the numbers of plans."""
        scene = tuple(replace(strip, renderer=self._sound(strip.renderer).renderer, plan=self._plans[strip.plan])
                      for strip in strips)  # fmt: skip
        self._version = version, self._playing.set_scene(scene, samples)

    def play(self) -> None:
        """Go on from the place; what fails again is reported again."""
        self._trouble = ""
        self._playing.play()

    def forget(self, source: Source) -> None:
        """Open a recording anew with the next scene; the one that is heard still stays open for that long."""
        self._sounds.pop(source, None)

    def clear(self) -> None:
        """Forget what was rendered: what it was made of has changed."""
        self._cache.clear()

    def played(self) -> None:
        """Tell what a simulated device played lately."""
        played = self._playing.device.played()
        self._tell({"played": played.astype("<f4").tobytes()})

    def unplayed(self) -> None:
        """Let a simulated device forget what it played."""
        self._playing.device.clear()

    def carry_out(self, message: tuple) -> None:
        """Do what a message says, and count it where it counts."""
        counts, name, *arguments = message
        try:
            whose = self if name in _OWN else self._playing.heard_as if hasattr(HeardAs, name) else self._playing
            getattr(whose, name)(*arguments)
        except InputError as error:
            self._tell({"trouble": str(error)})
        finally:
            self.publish()
            self._state["applied"] += counts

    @property
    def _playing(self) -> Player:
        if self._player is None:
            raise InputError("nothing is open to be played")
        return self._player

    def _sound(self, source: Source) -> Sound:
        if source not in self._sounds:
            self._sounds[source] = open_sound(source, self._cache)
        return self._sounds[source]

    def publish(self) -> None:
        """Tell how the playing stands."""
        player, state, ring = self._player, self._state, self._ring
        if player is None:
            return
        for name in ("blocks", "empty", "late", *LEVELS[1:]):
            state[name] = ring[name]
        asked = state["peaks_read"]
        peaks = {"true_peak": ring["true_peak"], "peak": player.peak()}  # asking for the second resets both
        for name, peak in peaks.items():
            state[name] = peak if asked != self._peaks_read else max(state[name], peak)
        self._peaks_read = asked
        state["position"] = player.position
        state["preparing"], state["as_sung"] = player.preparing, player.as_sung_for_now
        ours, its = self._version
        if state["version"] != ours and player.is_ready(its):
            state["version"] = ours
        state["playing"] = player.playing
        if player.trouble and player.trouble != self._trouble:
            self._tell({"trouble": player.trouble})
        self._trouble = player.trouble


def messages(stream: BinaryIO) -> Any:
    """The messages of a stream, to its end."""
    while len(head := stream.read(LENGTH_BYTES)) == LENGTH_BYTES:
        yield pickle.loads(stream.read(int.from_bytes(head, "little")))


def main() -> None:
    """Carry out messages until the input ends."""
    log.start()
    memory.give_back()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    end_with_parent(int(sys.argv[1]))
    ring = Ring()
    output = OutputProcess(ring)
    sys.setswitchinterval(_SWITCH_S)
    replies = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # nothing else may come between the lines

    def tell(line: dict[str, Any]) -> None:
        replies.write(msgspec.json.encode(line) + b"\n")
        replies.flush()

    sounding = SoundProcess(State(int(sys.argv[2])), ring, output, tell)
    gc.collect()
    gc.freeze()  # modules stay; looking through them again and again would halt the sound
    for message in messages(sys.stdin.buffer):
        try:
            sounding.carry_out(message)
        except Exception as error:  # noqa: BLE001 (whatever it is, what is heard goes on)
            _log.error(log.INSIDE, error, exc_info=error)
            tell({"trouble": f"an error inside Isophon ({type(error).__name__}: {error})"})
    sounding.close()


if __name__ == "__main__":
    main()
