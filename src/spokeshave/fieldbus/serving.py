"""A machine file served from beginning to end, as the command does it."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable
from typing import TYPE_CHECKING

from spokeshave.engine.session import Session
from spokeshave.fieldbus.access import Network
from spokeshave.fieldbus.address_map import Role
from spokeshave.fieldbus.image import Image
from spokeshave.fieldbus.real_time import Jitter, run_counted, run_real_time
from spokeshave.fieldbus.server import ServeError, Server
from spokeshave.model.project import Project

if TYPE_CHECKING:
    from spokeshave.fieldbus.node_server import NodeServer


def serve_project(
    project: Project,
    role: Role,
    host: str,
    port: int,
    seconds: float | None,
    say: Callable[[str], None],
    allowed: tuple[Network, ...] = (),
    by_count: bool = False,
    opcua: bool = False,
) -> Jitter:
    """Serves until the seconds are over, Ctrl+C, or the run stops with an error; `by_count` runs a scan for each that a client counts.

    Raises `LinkError` for a machine file that cannot run, `ServeError` for an address that cannot be had.
    """
    session, image = Session(project), Image(project, role)
    server: Server | NodeServer
    if not opcua:
        server = Server(image, host, port, allowed)
    else:
        try:
            from spokeshave.fieldbus.node_server import NodeServer
        except ImportError:
            raise ServeError("OPC UA needs the package asyncua: pip install 'spokeshave[opcua]'") from None
        server = NodeServer(image, host, port, project.name)
    server.start()
    over = threading.Event()
    before = None
    if threading.current_thread() is threading.main_thread():
        before = signal.signal(signal.SIGINT, lambda *_: over.set())
    try:
        when = "a scan for each count" if by_count else f"a scan every {project.period_ms} ms"
        say(f"{project.name} as {role} at {server.address}, {when}. Ctrl+C ends it.")
        image.begin(session)
        jitter = (run_counted if by_count else run_real_time)(session, image, seconds, over.is_set)
    finally:
        server.stop()
        if before is not None:
            signal.signal(signal.SIGINT, before)
    if session.stopped is not None:
        say(str(session.stopped))
    say(f"{image.reads} reads, {image.writes} writes, {image.refused} refused")
    return jitter


__all__ = ["ServeError", "serve_project"]
