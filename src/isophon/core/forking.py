"""Child processes that start at once: forked from one that has loaded what they need, whose memory they share.

``python -m isophon.core.forking PARENT DESCRIPTOR MODULE …`` is that one. It loads the modules, then reads requests
from the socket DESCRIPTOR: a module, arguments, an environment, and the descriptors of the child's input, its output
and whatever else it is to have; it answers with the child's process id. The child runs the module's ``main``, with the
id of this process as the first of its arguments and the further descriptors as the last. All end with the process
PARENT.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import logging
import os
import select
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from functools import cache
from pathlib import Path
from typing import Any, BinaryIO

import msgspec

from isophon.core.lifetime import end_with_parent
from isophon.core.log import INSIDE

_log = logging.getLogger(__name__)

WORKER, PLAYER = "isophon.core.work.worker", "isophon.core.playing.process"
PICTURES = "isophon.core.work.picturing"
_SRC = Path(__file__).resolve().parents[2]
_MOST_BYTES = 1 << 20  # of a message
_MOST_DESCRIPTORS = 8  # files that are passed with it


class _Request(msgspec.Struct):
    module: str
    arguments: list[str]
    environment: dict[str, str]


class Child:
    """A child process, as :class:`subprocess.Popen` has one: it is asked by ``stdin`` and answers by ``stdout``."""

    def __init__(self, pid: int, stdin: BinaryIO, stdout: BinaryIO, own: bool = False) -> None:
        self.pid, self.stdin, self.stdout = pid, stdin, stdout
        self._own = own  # forked from this very process, which then has to take note of its end
        try:
            self._handle: int | None = os.pidfd_open(pid)
        except ProcessLookupError:  # it has ended already
            self._handle = None

    def poll(self) -> int | None:
        """None while it runs."""
        return None if not self._ended(0) else 0

    def wait(self, timeout: float | None = None) -> int:
        """Wait until it has ended; TimeoutExpired where that takes longer."""
        if not self._ended(timeout):
            raise subprocess.TimeoutExpired(str(self.pid), timeout or 0)
        return 0

    def terminate(self) -> None:
        """Ask it to end."""
        self._send(signal.SIGTERM)

    def kill(self) -> None:
        """End it at once."""
        self._send(signal.SIGKILL)

    def __del__(self) -> None:
        if self._handle is not None:
            os.close(self._handle)

    def _ended(self, timeout: float | None) -> bool:
        if self._handle is None:
            return True
        ended = select.poll()
        ended.register(self._handle, select.POLLIN)
        if not ended.poll(None if timeout is None else 1000 * timeout):
            return False
        if self._own:
            with contextlib.suppress(ChildProcessError):  # it was noted before
                os.waitpid(self.pid, os.WNOHANG)
        return True

    def _send(self, number: int) -> None:
        if self._handle is not None:
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(self._handle, number)


class Forker:
    """Starts children that have ``modules`` loaded; the process they are forked from begins with the first of them."""

    def __init__(self, modules: Sequence[str]) -> None:
        self._modules = modules
        self._lock = threading.Lock()
        self._socket: socket.socket | None = None

    def start(self, module: str, arguments: Sequence[str] = (), descriptors: Sequence[int] = ()) -> Child:
        """A child that runs the ``main`` of a module; OSError where none can be started."""
        with self._lock:
            try:
                return self._started(module, arguments, descriptors)
            except OSError as error:
                _log.warning("the process that others are forked from is begun anew: %s", error)
                self._socket = None
                return self._started(module, arguments, descriptors)

    def _started(self, module: str, arguments: Sequence[str], descriptors: Sequence[int]) -> Child:
        if self._socket is None:
            self._begin()
        assert self._socket is not None
        (its_input, ours_out), (ours_in, its_output) = os.pipe(), os.pipe()
        try:
            request = msgspec.json.encode(_Request(module, list(arguments), dict(os.environ)))
            socket.send_fds(self._socket, [request], [its_input, its_output, *descriptors])
            answer = self._socket.recv(64)
            if not answer:
                raise OSError("it ended")
        except OSError:
            os.close(ours_out)
            os.close(ours_in)
            raise
        finally:
            os.close(its_input)
            os.close(its_output)
        return Child(int(answer), os.fdopen(ours_out, "wb"), os.fdopen(ours_in, "rb"))

    def _begin(self) -> None:
        """Begin the process that loads and forks; in a thread of its own, with whose end it would end as well."""
        self._socket, its = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        command = [sys.executable, "-m", "isophon.core.forking", str(os.getpid()), str(its.fileno()), *self._modules]
        environment = {**os.environ, "PYTHONPATH": str(_SRC), "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
        begun: list[Any] = []
        there = threading.Event()

        def keep() -> None:
            try:
                begun.append(subprocess.Popen(command, stdin=subprocess.DEVNULL, env=environment,
                                              pass_fds=[its.fileno()]))  # fmt: skip
            except OSError as error:
                begun.append(error)
            its.close()
            there.set()
            if isinstance(begun[0], subprocess.Popen):
                begun[0].wait()

        threading.Thread(target=keep, name="forker", daemon=True).start()
        there.wait()
        if isinstance(begun[0], OSError):
            raise begun[0]


@cache
def forker() -> Forker:
    """The one of this process."""
    return Forker((WORKER, PLAYER, PICTURES))


def fork_here(count: int, serve: Callable[[BinaryIO, BinaryIO, int], None]) -> list[Child]:
    """Children of this very process; none where it has begun a thread, since it cannot be forked safely then.

    Each runs ``serve(input, output, parent)``. They share what this process has loaded, and end with it.
    """
    if threading.active_count() > 1:
        return []
    sys.stdout.flush()
    sys.stderr.flush()
    parent = os.getpid()
    children: list[Child] = []
    for _ in range(count):
        (its_input, ours_out), (ours_in, its_output) = os.pipe(), os.pipe()
        pid = os.fork()
        if pid == 0:
            for descriptor in (ours_out, ours_in):
                os.close(descriptor)
            for child in children:  # else those before it would never see the end of their input
                child.stdin.close()
                child.stdout.close()
            _serve_here(serve, its_input, its_output, parent)
        os.close(its_input)
        os.close(its_output)
        children.append(Child(pid, os.fdopen(ours_out, "wb"), os.fdopen(ours_in, "rb"), own=True))
    return children


def _serve_here(serve: Callable[[BinaryIO, BinaryIO, int], None], its_input: int, its_output: int, parent: int) -> None:
    """Be a child of the process, to its end."""
    try:
        serve(os.fdopen(its_input, "rb"), os.fdopen(its_output, "wb"), parent)
    except (SystemExit, BrokenPipeError):  # it was asked to end, or nobody listens any more
        pass
    except BaseException as error:  # noqa: BLE001 (a process ends here)
        _log.error(INSIDE, error, exc_info=error)
    finally:
        os._exit(0)


def _run(loaded: dict[str, Any], request: _Request, descriptors: list[int], parent: int) -> None:
    """Be a child, to its end."""
    code = 1
    try:
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        os.dup2(descriptors[0], 0)
        os.dup2(descriptors[1], 1)
        for descriptor in descriptors[:2]:
            os.close(descriptor)
        os.environ.clear()
        os.environ.update(request.environment)
        sys.argv = [request.module, str(parent), *request.arguments, *map(str, descriptors[2:])]
        loaded[request.module].main()
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0
    except BrokenPipeError:  # nobody listens any more
        pass
    except BaseException as error:  # noqa: BLE001 (a process ends here)
        _log.error(INSIDE, error, exc_info=error)
    finally:
        os._exit(code)


def main() -> None:
    """Load, then fork a child for each request, until there is nobody to ask."""
    end_with_parent(int(sys.argv[1]))
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    loaded = {name: importlib.import_module(name) for name in sys.argv[3:]}
    gc.collect()
    gc.freeze()  # looking through it would make each child's memory its own
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # none stays as a zombie
    own = os.getpid()
    with socket.socket(fileno=int(sys.argv[2])) as asked:
        while True:
            data, descriptors, _, _ = socket.recv_fds(asked, _MOST_BYTES, _MOST_DESCRIPTORS)
            if not data:
                return
            child = os.fork()
            if child == 0:
                asked.close()
                _run(loaded, msgspec.json.decode(data, type=_Request), descriptors, own)
            for descriptor in descriptors:
                os.close(descriptor)
            asked.send(str(child).encode())


if __name__ == "__main__":
    main()
