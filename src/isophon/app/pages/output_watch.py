"""What the transport shows of the output, what is chosen there, and a line where a change is not heard."""

from __future__ import annotations

from collections.abc import Callable

from isophon.app.model.hearing import Hearing
from isophon.app.model.keys import key_book, shown_key
from isophon.app.model.unheard import Unheard
from isophon.app.model.workspace import Workspace
from isophon.app.views.transport import Transport
from isophon.core.session import edits
from isophon.core.session.chain import Chain

_LOOK_EVERY = 15  # turns of the clock


class OutputWatch:
    """Ties the transport's panels to what is heard; ``tell(words)`` shows one line."""

    def __init__(self, workspace: Workspace, hearing: Hearing, transport: Transport,
                 tell: Callable[[str], None]) -> None:  # fmt: skip
        self.workspace, self.hearing, self.transport, self._tell = workspace, hearing, transport, tell
        self.unheard = Unheard(workspace, hearing)
        self._turns, self._gone = 0, ""
        transport.rough_switched.connect(hearing.set_chained)
        transport.chain_changed.connect(self._set_chain)
        transport.output_changed.connect(hearing.set_listening)
        transport.output_opened.connect(hearing.player.device.list_outputs)
        workspace.session_changed.connect(self.say_if_unheard)
        hearing.changed.connect(self._show_settings)
        self._show_settings()

    def follow(self) -> None:
        """Say where the sound goes, and once where an output went away or came back."""
        hearing, device, transport = self.hearing, self.hearing.player.device, self.transport
        self._turns += 1
        if self._turns % _LOOK_EVERY == 0 and device.name:
            device.look()
        transport.show_device(device, hearing.listening.volume_db, hearing.listening.sides,
                              hearing.player.speed)  # fmt: skip
        transport.show_match(hearing.matched, hearing.gain_db)
        transport.meter.follow(hearing.player)
        if transport.output_panel.isVisible():
            transport.output_panel.show_outputs(device.outputs, device.name, device.rate, device.gone)
        if device.gone != self._gone:
            instead = "nothing else is there to play on" if device.silent else f"it plays on {device.name} now"
            missing = f"{device.gone} is not there; {instead}."
            self._tell(missing if device.gone else f"It plays on {device.name} again.")
            self._gone = device.gone

    def say_if_unheard(self) -> None:
        """Say where what was changed is not heard while it plays, and with which key it is."""
        why, action = self.unheard.why()
        if why:
            self._tell(f"You do not hear this: {why} ({shown_key(key_book().key(action))}).")

    def _show_settings(self) -> None:
        self.transport.show_match(self.hearing.matched, self.hearing.gain_db)
        self.transport.output_panel.show_settings(self.hearing.listening)
        if self.transport.rough_panel.chain != self.workspace.session.chain:
            self.transport.rough_panel.show_chain(self.workspace.session.chain)

    def _set_chain(self, chain: Chain, gesture: object) -> None:
        self.workspace.edit("rough chain", lambda s: edits.set_chain(s, chain), gesture)
