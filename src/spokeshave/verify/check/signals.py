"""Rules on signals: used nowhere, written nowhere, wired so that a broken wire goes unseen, never confirmed."""

from __future__ import annotations

import re
from collections.abc import Iterator

from spokeshave.language import syntax as sx
from spokeshave.machine.wiring import exchanged
from spokeshave.model.diagnostics import Diagnostic, Place
from spokeshave.model.project import SignalClass, Type
from spokeshave.verify.check.devices import value_of
from spokeshave.verify.check.look import Look, advice, warning
from spokeshave.verify.usage import names_in, sequences_speak

_STOP = re.compile(r"(?:^|_|(?<=[a-z0-9]))(?:[Ss]top|STOP|[Hh]alt|HALT)(?![a-z])")
"""A name with the word stop or halt in it, written as names are: `StopButton`, `LineStop`, `stop_1`; not `Backstopper`."""


def unused(look: Look) -> Iterator[Diagnostic]:
    """A signal nothing reads, or an output or internal nothing writes. While no sequence speaks of any signal yet, the list of
    them is being written, or the logic that runs before and behind the chart.
    """
    if not sequences_speak(look.project):
        return
    for s in look.project.signals:
        place = Place("signal", item=s.name)
        read, written = look.used(s.name, "read"), look.used(s.name, "write", "act")
        if s.cls is SignalClass.OUTPUT:
            if not written:
                yield warning("written-nowhere", place, f"nothing ever writes output {s.name}",
                              "mark it in the steps that need it, or delete it")  # fmt: skip
        elif s.cls is SignalClass.INTERNAL:
            if not written and read:
                yield warning("written-nowhere", place, f"{s.name} is read and never written",
                              "write it, or make it a setting")  # fmt: skip
            elif not read:
                yield advice("read-nowhere", place, f"nothing reads {s.name}", "use it or delete it")
        elif not read and not _is_confirmation(look, s.name):
            yield advice("read-nowhere", place, f"nothing reads {s.cls} {s.name}", "use it or delete it")


def _is_confirmation(look: Look, name: str) -> bool:
    return any(
        d.kind == "actuator" and name.lower() in (d.wired("extended").lower(), d.wired("retracted").lower())
        for d in look.project.devices
    )


def unconfirmed_movement(look: Look) -> Iterator[Diagnostic]:
    """A commanded movement whose end switch is awaited nowhere: the step may be left before it was confirmed."""
    for d in look.project.devices:
        if d.kind != "actuator":
            continue
        for terminal, what in (("extended", "arrived"), ("retracted", "came back")):
            signal = d.wired(terminal)
            if signal and not look.used(signal, "read"):
                yield warning("movement-unconfirmed", Place("signal", item=signal),
                              f"{d.name} is moved, but nothing awaits {signal}",
                              f"await it in the step after the command, to know that {d.name} {what}")  # fmt: skip


def safety_contact_open(look: Look) -> Iterator[Diagnostic]:
    """A stop or emergency contact wired normally open: a broken wire would read like *not pressed*."""
    for d in look.project.devices:
        signal = look.project.signal(d.wired("contact"))
        if signal is None or d.kind not in ("button", "emergency"):
            continue
        stops = d.kind == "emergency" or _STOP.search(d.name) or _STOP.search(signal.name)
        closed = value_of(d, "normally_closed")
        if stops and (signal.contact == "no" or not closed):
            what = "an emergency stop" if d.kind == "emergency" else "a stop button"
            yield warning("stop-normally-open", Place("signal", item=signal.name), f"{signal.name} is {what} wired normally open",
                          "wire it normally closed, so that a broken wire stops the machine")  # fmt: skip


def never_reset_counter(look: Look) -> Iterator[Diagnostic]:
    """A number that a body counts up and nothing sets back."""
    for s in look.project.signals:
        if s.cls is not SignalClass.INTERNAL or s.type not in (Type.INT, Type.DINT):
            continue
        writes = [u for u in look.used(s.name, "write") if _runs(look, u.place)]
        if writes and all(u.place.kind != "trip" for u in writes) and not _set_back(look, s.name):
            yield warning("counter-never-reset", Place("signal", item=s.name),
                          f"{s.name} is counted and never set back", "set it to 0 where a new count begins")  # fmt: skip


def _runs(look: Look, place: Place) -> bool:
    """Whether a body is named by any action block; other texts always run."""
    return place.kind != "body" or bool(look.used(f"{place.sequence}.{place.item}", "act"))


def _set_back(look: Look, name: str) -> bool:
    """Whether any text that runs gives the variable a value that does not hang on the one it has, or a block does."""
    return any(
        not (isinstance(s, sx.Assign) and any(n == name.lower() for n, _ in names_in(s.value)))
        for place, s in look.writing.get(name.lower(), ())
        if _runs(look, place)
    )


def wires_exchanged(look: Look) -> Iterator[Diagnostic]:
    """Two wires of a device whose signals' names fit the other terminal better."""
    for name, one, other in exchanged(look.project):
        device = look.project.device(name)
        assert device is not None
        a, b = device.wired(one), device.wired(other)
        yield warning("wires-exchanged", Place("device", item=name), f"{a} at {one} and {b} at {other} look exchanged",
                      "exchange them, or rename the signals if they are right")  # fmt: skip


RULES = (unused, unconfirmed_movement, safety_contact_open, never_reset_counter, wires_exchanged)
