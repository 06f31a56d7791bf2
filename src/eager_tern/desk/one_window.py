"""One window for each user: files opened from the file manager arrive in the one that is running."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject
from PyQt6.QtNetwork import QLocalServer, QLocalSocket

PATIENCE_MS = 1000
MOST_BYTES = 1_000_000  # some thousand paths


def _name() -> str:
    """A socket in the user's runtime folder; without one, a name of the user's own."""
    folder = os.environ.get("XDG_RUNTIME_DIR", "")
    return str(Path(folder) / "eager-tern.socket") if folder else f"eager-tern-{os.getuid()}"


def hand_over(paths: list[Path]) -> bool:
    """Give files to the window that is running; False where none is."""
    socket = QLocalSocket()
    socket.connectToServer(_name())
    if not socket.waitForConnected(PATIENCE_MS):
        return False
    socket.write(json.dumps([str(path.absolute()) for path in paths]).encode() + b"\n")
    return socket.waitForBytesWritten(PATIENCE_MS)


class Doorway(QObject):
    """Where a window takes files in. Only the user may connect."""

    def __init__(self, take_in: Callable[[list[Path]], None]) -> None:
        super().__init__()
        self._take_in = take_in
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._server.newConnection.connect(self._greet)
        if not self._server.listen(_name()):  # one that was left behind when a window was killed
            QLocalServer.removeServer(_name())
            self._server.listen(_name())

    def close(self) -> None:
        self._server.close()

    def _greet(self) -> None:
        while (socket := self._server.nextPendingConnection()) is not None:
            socket.readyRead.connect(lambda socket=socket: self._read(socket))
            socket.disconnected.connect(socket.deleteLater)
            self._read(socket)

    def _read(self, socket: QLocalSocket) -> None:
        if socket.bytesAvailable() > MOST_BYTES:
            socket.abort()
            return
        if not socket.canReadLine():
            return
        try:
            said = json.loads(bytes(socket.readLine()))
        except ValueError:
            return
        if isinstance(said, list) and all(isinstance(each, str) for each in said):
            self._take_in([Path(each) for each in said])
        socket.disconnectFromServer()
