"""One window a log: a file from the file manager lands in the window that is open, by a local socket of this user's own."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable

from PySide6.QtCore import QObject
from PySide6.QtNetwork import QLocalServer, QLocalSocket

PATIENCE_MS = 600  #: a window that does not answer within is busy or gone: another one opens
MOST_BYTES = 1_000_000  #: of names of files in one message


def address_of(what: str) -> str:
    """The name of the socket of a log, the demo's or the user's own; no other user's."""
    return f"sagen-{os.getuid()}-{hashlib.sha256(what.encode()).hexdigest()[:16]}"


def handed_on(what: str, files: list[str]) -> bool:
    """Hand files on to the window that is open on the same log; False where there is none."""
    socket = QLocalSocket()
    socket.connectToServer(address_of(what))
    if not socket.waitForConnected(PATIENCE_MS):
        return False
    socket.write(json.dumps([os.path.abspath(file) for file in files]).encode() + b"\n")
    socket.waitForBytesWritten(PATIENCE_MS)
    answered = socket.waitForReadyRead(PATIENCE_MS) and bytes(socket.readAll().data()) == b"taken\n"
    socket.disconnectFromServer()
    return answered


class OneWindow(QObject):
    """Listens for files that another start of the program hands on.

    Parameters
    ----------
    taken : callable
        is given the names of the files
    """

    def __init__(self, what: str, taken: Callable[[list[str]], None], parent: QObject | None = None):
        super().__init__(parent)
        self._taken, self._held = taken, {}
        self.server = QLocalServer(self)
        self.server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        if not self.server.listen(address_of(what)):
            # A window that died left its socket behind; one that lives answered before this one was made.
            QLocalServer.removeServer(address_of(what))
            self.server.listen(address_of(what))
        self.server.newConnection.connect(self._connected)

    def _connected(self) -> None:
        while (socket := self.server.nextPendingConnection()) is not None:
            self._held[socket] = b""
            socket.readyRead.connect(lambda socket=socket: self._read(socket))
            socket.disconnected.connect(lambda socket=socket: self._held.pop(socket, None))
            self._read(socket)

    def _read(self, socket: QLocalSocket) -> None:
        """A line of names; anything else is left unanswered."""
        said = self._held.get(socket, b"") + bytes(socket.readAll().data())
        self._held[socket] = said
        if len(said) > MOST_BYTES:
            socket.abort()
        elif said.endswith(b"\n"):
            self._held[socket] = b""
            try:
                names = json.loads(said)
            except (ValueError, RecursionError):
                names = None
            if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
                socket.abort()
                return
            socket.write(b"taken\n")
            socket.flush()
            self._taken(names)
