"""One window for each user: files opened from the file manager arrive in the one that is running."""

from __future__ import annotations

import json
import logging
import socket
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from threading import Thread

from eager_tern.places import runtime_folder

PATIENCE_S = 1.0
MOST_BYTES = 1_000_000  # some thousand paths
log = logging.getLogger(__name__)


def _place() -> Path:
    return runtime_folder() / "window.socket"


def hand_over(paths: list[Path]) -> bool:
    """Give files to the window that is running; False where none is."""
    with socket.socket(socket.AF_UNIX) as line:
        line.settimeout(PATIENCE_S)
        try:
            line.connect(str(_place()))
            line.sendall(json.dumps([str(path.absolute()) for path in paths]).encode() + b"\n")
            return line.recv(1) == b"+"
        except OSError:
            return False


class Doorway:
    """Where a window takes files in; only the user may come there. ``take_in`` is called in a thread of its own."""

    def __init__(self, take_in: Callable[[list[Path]], None]) -> None:
        self._take_in = take_in
        self._line = socket.socket(socket.AF_UNIX)
        place = _place()
        try:
            place.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            place.unlink(missing_ok=True)  # left behind by a window that was killed
            self._line.bind(str(place))
            place.chmod(0o600)
            self._line.listen()
        except OSError as error:
            log.warning("files from the file manager open a window of their own: %s", error)
            self._line.close()
            return
        Thread(target=self._serve, name="doorway", daemon=True).start()

    def close(self) -> None:
        with suppress(OSError):
            self._line.shutdown(socket.SHUT_RDWR)
        self._line.close()
        _place().unlink(missing_ok=True)

    def _serve(self) -> None:
        while True:
            try:
                guest, _ = self._line.accept()
            except OSError:  # closed
                return
            with guest:
                guest.settimeout(PATIENCE_S)
                with suppress(OSError, ValueError):
                    self._greet(guest)

    def _greet(self, guest: socket.socket) -> None:
        said = json.loads(guest.makefile("rb").readline(MOST_BYTES))
        if isinstance(said, list) and all(isinstance(each, str) for each in said):
            guest.sendall(b"+")
            self._take_in([Path(each) for each in said])
