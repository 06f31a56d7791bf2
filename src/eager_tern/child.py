"""Processes of our own for work that keeps a processor busy: isolated, ended at once, and gone with their parent."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from multiprocessing.connection import Connection, Pipe
from pathlib import Path
from threading import Thread
from typing import Any

# -I: neither the working directory nor the environment may put modules of their own in the way of ours.
BOOT = "import sys; sys.path += sys.argv[4:]; from eager_tern.child import main; main()"
ENDS_IN_S = 5.0


class Child:
    """A process that does ``work(connection)``; values go to and fro over ``connection``."""

    def __init__(self, work: Callable[[Connection], None]) -> None:
        self.connection, theirs = Pipe()
        reads, self._lifeline = os.pipe()
        packages = [str(Path(__file__).parents[1])]
        packages += [path for path in sys.path if path.endswith(("site-packages", "dist-packages"))]
        name = f"{work.__module__}:{work.__qualname__}"
        command = [sys.executable, "-I", "-c", BOOT, name, str(theirs.fileno()), str(reads), *packages]
        self._process = subprocess.Popen(command, stdin=subprocess.DEVNULL, pass_fds=(theirs.fileno(), reads))
        theirs.close()
        os.close(reads)

    def end(self) -> None:
        """End it, whatever it does."""
        self._process.terminate()
        try:
            self._process.wait(ENDS_IN_S)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self.connection.close()
        if self._lifeline >= 0:
            os.close(self._lifeline)
            self._lifeline = -1

    def __enter__(self) -> Child:
        return self

    def __exit__(self, *_: object) -> None:
        self.end()


def main() -> None:
    """The child's side: do the work that the first argument names, until the parent is gone."""
    name, connection, lifeline = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the parent's to answer
    end_with_parent(lifeline)
    module, _, function = name.partition(":")
    work: Any = getattr(import_module(module), function)
    with suppress(EOFError, BrokenPipeError, ConnectionResetError):  # nobody waits for the answer any more
        work(Connection(connection))


def end_with_parent(lifeline: int) -> None:
    """End this process as soon as nobody holds the other end of a pipe any more, in the midst of work, too."""

    def watch() -> None:
        while os.read(lifeline, 1):
            pass
        os._exit(1)

    Thread(target=watch, daemon=True).start()
