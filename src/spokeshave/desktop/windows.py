"""The windows of one program: each file has its own, and a second start hands its file over to the first program."""

from __future__ import annotations

import getpass
import hashlib
import json
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtNetwork import QLocalServer, QLocalSocket

from spokeshave import __version__

WAIT_MS = 500
LONGEST = 100_000
"""Bytes of a request: a path and a few words."""


def _name(state: Path) -> str:
    """One program for each person and each place where state is kept."""
    return "spokeshave-" + hashlib.sha256(f"{getpass.getuser()} {state}".encode()).hexdigest()[:16]


def hand_over(state: Path, file: Path | None, copy: bool) -> bool:
    """Asks the program that runs already, if one does, to open a window; FALSE where there is none, or one of another version."""
    socket = QLocalSocket()
    socket.connectToServer(_name(state))
    if not socket.waitForConnected(WAIT_MS):
        return False
    wanted = {"version": __version__, "file": str(file.absolute()) if file else None, "copy": copy}
    socket.write(json.dumps(wanted).encode() + b"\n")
    socket.flush()
    return socket.waitForReadyRead(4 * WAIT_MS) and socket.readAll().data() == b"opened\n"


def _is_there(state: Path) -> bool:
    """Whether a program listens, though it is busy or of another version."""
    socket = QLocalSocket()
    socket.connectToServer(_name(state))
    return socket.waitForConnected(WAIT_MS)


class Doorkeeper(QObject):
    """Listens for what later starts hand over: `open_window` is called with a file, or None, and whether it is a copy.

    Only programs of the same person reach it.
    """

    def __init__(self, state: Path, open_window: Callable[[Path | None, bool], object]) -> None:
        super().__init__()
        self._open = open_window
        self.server = QLocalServer(self)
        self.server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        if not _is_there(state):  # listening would take the name away from it; one that died has left its name behind
            QLocalServer.removeServer(_name(state))
            self.server.listen(_name(state))
        self.server.newConnection.connect(self._come)

    def _come(self) -> None:
        socket = self.server.nextPendingConnection()
        if socket is None:
            return
        socket.setReadBufferSize(LONGEST)
        socket.disconnected.connect(socket.deleteLater)
        socket.readyRead.connect(lambda: self._hear(socket))

    def _hear(self, socket: QLocalSocket) -> None:
        if not socket.canReadLine():
            return
        try:
            wanted = json.loads(bytes(socket.readLine().data()))
            version, file, copy = wanted["version"], wanted["file"], wanted["copy"]
        except (ValueError, TypeError, KeyError):
            socket.abort()
            return
        if version != __version__:
            socket.abort()
            return
        socket.write(b"opened\n")
        socket.flush()
        self._open(Path(file) if isinstance(file, str) else None, bool(copy))
