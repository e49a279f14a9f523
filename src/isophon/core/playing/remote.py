"""The player as the window holds it: everything asked of it is done in a process of its own (:mod:`.process`).

Nothing here waits. What is asked for is sent by a thread; how the playing stands is read from memory that both see.
Where the process ends unasked, the playing stops, and the next play begins another.
"""

from __future__ import annotations

import logging
import os
import pickle
import queue
import subprocess
import threading
import time
from dataclasses import replace
from typing import Any

import msgspec
import numpy as np

from isophon.core.forking import PLAYER, Child, forker
from isophon.core.log import INSIDE
from isophon.core.playing.chunks import SHORTEST_LOOP
from isophon.core.playing.device import Wanted
from isophon.core.playing.mix import Scene
from isophon.core.playing.remote_device import Line, Listening, RemoteDevice
from isophon.core.playing.state import LENGTH_BYTES, State
from isophon.core.session.chain import Chain
from isophon.core.session.items import Source
from isophon.core.staging import Plan

_log = logging.getLogger(__name__)

_AT_ONCE = 1_000  # treatments pickled at once, since that stops all threads
_PLANS_KEPT = 64  # plans that the player's process has a number for
_LOOK_S = 0.002  # s between looks at what it answers
_END_S = 2.0  # s that it is given to end
_ENDED = "the process that plays ended; playing again starts it anew"


class RemotePlayer:
    """A player as :class:`isophon.core.playing.player.Player`, with sources instead of renderers in its scenes.

    ``trouble``: why the last playing stopped by itself, '' where it did not. ``scene``, ``chain``: what was asked for.
    """

    def __init__(self) -> None:
        self.device = RemoteDevice(self)
        self._begin_anew()
        self._wanted, self._listening = Wanted(), Listening()
        self._state = State.make()
        self._messages: queue.SimpleQueue[tuple | None] = queue.SimpleQueue()
        self._sender: threading.Thread | None = None
        self.process_id = 0  # 0 while there is none
        self._sent_plans: dict[int, tuple[int, Plan]] = {}  # by identity: number and plan
        self._numbers, self._sent, self._version = 0, 0, 0
        self._ended = False

    def _begin_anew(self) -> None:
        self.sample_rate, self.trouble = 48_000, ""
        self.scene: Scene = ()
        self.chain: Chain | None = None
        self._samples, self.speed = 1, 1.0
        self._loop: tuple[int, int] | None = None
        self._compare = "cleaned"
        self._match_db: float | None = None
        self._position, self._position_sent = 0, 0
        self._playing, self._playing_sent = False, 0

    # what a person asks for

    def wake(self) -> None:
        """Start the process, so that it is there when it is needed."""
        if self._sender is None and not self._ended:
            self._sender = threading.Thread(target=self._serve, name="player messages", daemon=True)
            self._sender.start()

    def open(self, sample_rate: int, samples: int) -> None:
        """Begin with nothing to be heard, ``samples`` frames long at ``sample_rate`` Hz; the device is opened."""
        self._begin_anew()
        self.sample_rate, self._samples = sample_rate, samples
        self.send("set_device", self._wanted)
        self.send("open", sample_rate, samples)
        self.send("set_listening", *self._listening)

    @property
    def playing(self) -> bool:
        """Whether sound is asked for."""
        return self._playing if self._state["applied"] < self._playing_sent else bool(self._state["playing"])

    @property
    def preparing(self) -> bool:
        """Whether sound is asked for and none of it is there yet."""
        return self.playing and bool(self._state["preparing"])

    @property
    def as_sung_for_now(self) -> bool:
        """Whether what is heard is not all as it is to be, since that is still being rendered."""
        return self.playing and bool(self._state["as_sung"])

    @property
    def position(self) -> int:
        """The frame heard now."""
        return self._position if self._state["applied"] < self._position_sent else int(self._state["position"])

    @property
    def dropouts(self) -> tuple[int, int, int]:
        """Of the blocks that the device asked for while it played: how many, how many not full, how many late."""
        return int(self._state["blocks"]), int(self._state["empty"]), int(self._state["late"])

    @property
    def pending(self) -> bool:
        """Whether something that was asked for is not done yet."""
        return self._state["applied"] < self._sent

    def play(self) -> None:
        """Go on from the place."""
        if self._sender is not None and not self._sender.is_alive():
            self._start_again()
        self.trouble = ""
        self.send("play")
        self._playing, self._playing_sent = True, self._sent

    def stop(self) -> None:
        """Fade out and keep the place."""
        self.send("stop")
        self._playing, self._playing_sent = False, self._sent

    def seek(self, frame: int) -> None:
        """Go to a frame of the mix."""
        frame = int(np.clip(frame, 0, max(0, self._samples - 1)))
        self.send("seek", frame)
        self._position, self._position_sent = frame, self._sent

    def set_loop(self, loop: tuple[int, int] | None) -> None:
        """Play only these frames, again and again; None: to the end."""
        self._loop = loop
        place = self.position
        self.send("set_loop", loop)
        if loop and loop[1] - loop[0] > SHORTEST_LOOP and not loop[0] <= place < loop[1]:
            self._position, self._position_sent = loop[0], self._sent

    def play_once(self, first: int, last: int) -> None:
        """Play these frames, and stop."""
        self._loop = (first, last)
        self.send("play_once", first, last)
        self._position, self._position_sent = first, self._sent
        self._playing, self._playing_sent = True, self._sent

    def set_speed(self, speed: float) -> None:
        """Play at a part of the speed, above 0 to 1, at the same pitch."""
        if speed != self.speed:
            self.speed = speed
            self.send("set_speed", speed)

    def set_scene(self, scene: Scene, samples: int | None = None) -> int:
        """What is heard from now on; returns the version that :meth:`ready` waits for. ``samples``: a new length."""
        samples = self._samples if samples is None else samples
        if scene != self.scene or samples != self._samples:
            self.scene, self._samples = scene, samples
            self._version += 1
            self._send_scene()
        return self._version

    def set_compare(self, compare: str) -> None:
        """Which of COMPARES is heard."""
        self._compare = compare
        self.send("set_compare", compare)

    def set_match(self, gain_db: float | None) -> None:
        """Let cleaned be as loud as as sung; ``gain_db``: the gain until something was heard; None: as it is."""
        if gain_db != self._match_db:
            self._match_db = gain_db
            self.send("set_match", gain_db)

    def set_chain(self, chain: Chain | None) -> None:
        """What is heard goes through a rough chain; None: as it is."""
        if chain != self.chain:
            self.chain = chain
            self.send("set_chain", chain)

    def set_device(self, wanted: Wanted) -> None:
        """Choose the output."""
        if wanted != self._wanted:
            self._wanted = wanted
            self.send("set_device", wanted)

    def set_listening(self, listening: Listening) -> None:
        """How it is heard at the ears."""
        self._listening = listening
        self.send("set_listening", *listening)

    def level(self, name: str) -> float:
        """One of LEVELS; the highest true peak since the last :meth:`peak`."""
        return self._state[name]

    def forget(self, source: Source) -> None:
        """Open a recording anew."""
        self.send("forget", source)
        self._send_scene()

    def clear(self) -> None:
        """What was learned of a take is new: nothing that was rendered counts any more."""
        self.send("clear")

    def ready(self, version: int, timeout: float) -> bool:
        """Wait until samples of a version are there for the device; whether they are."""
        end = time.monotonic() + timeout
        while self._state["version"] < version:
            if time.monotonic() > end:
                return False
            time.sleep(_LOOK_S)
        return True

    def peak(self) -> float:
        """Highest sample since the last call."""
        peak = self._state["peak"]
        self._state["peaks_read"] += 1
        return peak

    def close(self) -> None:
        """Give the device back; the process stays for the next :meth:`open`."""
        self.send("close")

    def end(self) -> None:
        """End the process."""
        self._ended = True
        self._messages.put(None)

    # the process

    def send(self, *message: Any) -> None:
        """Have a message sent: the name of what is to be done, and its arguments."""
        self.wake()
        self._sent += 1
        self._messages.put(message)

    def _send_scene(self) -> None:
        self.send("scene", self._version, self.scene, self._samples)

    def _start_again(self) -> None:
        """Begin another process, with all that was asked of the one that ended."""
        scene, chain, loop, position, speed = self.scene, self.chain, self._loop, self.position, self.speed
        compare, match_db = self._compare, self._match_db
        self._sender, self._sent_plans, self._sent = None, {}, 0
        self._state, self._messages = State.make(), queue.SimpleQueue()
        self.open(self.sample_rate, self._samples)
        self.scene = scene
        self._send_scene()
        self.set_loop(loop)
        self.set_compare(compare)
        self.set_speed(speed)
        if match_db is not None:
            self.set_match(match_db)
        if chain is not None:
            self.set_chain(chain)
        self.seek(position)

    def _serve(self) -> None:
        """Start the process and send what it is asked for, until it ends."""
        try:
            process = forker().start(PLAYER, descriptors=[self._state.descriptor])
        except OSError as error:
            _log.error(INSIDE, error, exc_info=error)
            self._stopped(f"no process can be started that plays ({error.strerror})")
            return
        self.process_id = process.pid
        os.close(self._state.descriptor)
        messages = self._messages
        threading.Thread(target=self._listen, args=(process, messages), name="player lines", daemon=True).start()
        try:
            while (message := messages.get()) is not None:
                self._write(process, self._with_plans(process, message))
            process.stdin.close()
            process.wait(_END_S)
        except OSError as error:
            _log.warning("the process that plays does not listen: %s", error)
        except subprocess.TimeoutExpired:
            process.kill()

    def _with_plans(self, process: Child, message: tuple) -> tuple:
        """A message with numbers in place of its plans, which are sent before where they were not yet."""
        name, *arguments = message
        if name in ("open", "close"):
            self._sent_plans = {}
        if name == "scene":
            strips = tuple(replace(s, plan=self._number(process, s.plan)) for s in arguments[1])
            while len(self._sent_plans) > _PLANS_KEPT + len(strips):  # the last ones are this scene's
                oldest = next(iter(self._sent_plans))
                self._write(process, ("drop", self._sent_plans.pop(oldest)[0]), counts=False)
            return (name, arguments[0], strips, arguments[2])
        return message

    def _number(self, process: Child, plan: Plan) -> int:
        """The number by which the process knows a plan."""
        if not plan:
            return 0
        known = self._sent_plans.pop(id(plan), None)
        if known is None or known[1] is not plan:
            self._numbers += 1
            known = self._numbers, plan
            for first in range(0, len(plan), _AT_ONCE):
                self._write(process, ("plan", self._numbers, plan[first : first + _AT_ONCE]), counts=False)
                time.sleep(0)  # let others have their turn
        self._sent_plans[id(plan)] = known
        return known[0]

    @staticmethod
    def _write(process: Child, message: tuple, counts: bool = True) -> None:
        data = pickle.dumps((counts, *message), protocol=5)
        process.stdin.write(len(data).to_bytes(LENGTH_BYTES, "little") + data)
        process.stdin.flush()

    def _listen(self, process: Child, messages: queue.SimpleQueue) -> None:
        """Take up the lines of a process until it ends."""
        for line in process.stdout:
            try:
                news = msgspec.json.decode(line, type=Line)
            except msgspec.MsgspecError as error:
                _log.error(INSIDE, error, exc_info=error)
                process.kill()  # what it says is not to be understood any more
                break
            if news.device:
                self.device.name, self.device.silent = news.device, news.silent
                self.device.rate, self.device.gone = news.rate, news.gone
            if news.outputs is not None:
                self.device.outputs = news.outputs
            if news.trouble:
                self.trouble = news.trouble
            if news.played is not None:
                self.device.answers.put(news.played)
        process.wait()
        process.stdout.close()
        messages.put(None)
        if messages is self._messages and not self._ended:
            self._stopped(_ENDED)

    def _stopped(self, why: str) -> None:
        self._state["playing"] = 0
        self._playing_sent = self._position_sent = 0
        self.trouble = why
