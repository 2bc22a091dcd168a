"""Rules on logic against devices: what no device gives, contacts of another form, drives both ways, times that no movement keeps."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.machine.device import MOST
from spokeshave.machine.kinds import KINDS
from spokeshave.model.diagnostics import Diagnostic, Place
from spokeshave.model.project import Device, Project, Sequence, SignalClass, Step, Type
from spokeshave.verify.check.look import Look, advice, warning
from spokeshave.verify.usage import uses_in_expression

BOTH_WAYS = {"actuator": ("extend", "retract"), "motor": ("run", "reverse"), "axis": ("forward", "reverse")}
"""The terminals that drive a device one way and the other."""
MOVEMENTS = (("extend", "extended", "extend_s"), ("retract", "retracted", "retract_s"))
"""Of an actuator: its drive, the switch at the end, the time from one end to the other."""


def value_of(device: Device, parameter: str) -> float:
    """A parameter of a device as it is set, or as it usually is; within what a device takes."""
    usual = next(p.default for p in KINDS[device.kind].parameters if p.name == parameter)
    return min(float(dict(device.parameters).get(parameter, usual)), MOST)


def _given(project: Project) -> set[str]:
    return {signal.lower() for d in project.devices for _, signal in d.wires}


def not_given(look: Look) -> Iterator[Diagnostic]:
    """An input that logic reads and no device gives, in a machine whose other inputs have devices: in every run it stays as it is."""
    given = _given(look.project)
    inputs = [s for s in look.project.signals if s.cls is SignalClass.INPUT]
    if not any(s.name.lower() in given for s in inputs):
        return
    for s in inputs:
        if s.name.lower() not in given and look.used(s.name, "read"):
            yield advice("input-not-given", Place("signal", item=s.name), f"no device gives {s.name}: it stays as it is in every run",
                         "wire it to a device, or set it in the scenarios that need it")  # fmt: skip


def contact_otherwise(look: Look) -> Iterator[Diagnostic]:
    """A pushbutton that opens where the list says that it closes, or the other way round."""
    for d in look.project.devices:
        signal = look.project.signal(d.wired("contact")) if d.kind in ("button", "emergency") else None
        if signal is None or signal.type is not Type.BOOL:
            continue
        opens = value_of(d, "normally_closed") != 0
        if opens is (signal.contact == "no") and (opens or d.kind == "button"):
            yield warning("contact-otherwise", Place("signal", item=signal.name),
                          f"{signal.name} is {signal.contact.upper()} in the list, and {d.name} {'opens' if opens else 'closes'} when pressed",
                          f"make it {'NC' if opens else 'NO'} in the list, or turn the contact of {d.name} round")  # fmt: skip


def both_ways(look: Look) -> Iterator[tuple[Device, str, str]]:
    """Devices that are driven both ways by two outputs."""
    for d in look.project.devices:
        one, other = (d.wired(terminal) for terminal in BOTH_WAYS.get(d.kind, ("", "")))
        if one and other:
            yield d, one, other


def drives_unopposed(look: Look) -> Iterator[Diagnostic]:
    """Two drives of one device that nothing keeps from being on together; or a motor that is turned round with no dead time."""
    pairs = {frozenset((o.first.lower(), o.second.lower())): o for o in look.project.opposed}
    locked = {
        lock.output.lower(): {u.name for u in uses_in_expression(lock.condition, Place())}
        for lock in look.project.interlocks
    }
    for d, one, other in both_ways(look):
        pair = pairs.get(frozenset((one.lower(), other.lower())))
        if pair is None:
            if other.lower() not in locked.get(one.lower(), ()) and one.lower() not in locked.get(other.lower(), ()):
                yield warning("drives-unopposed", Place("device", item=d.name), f"nothing keeps {one} and {other} of {d.name} from being on together",
                              "make them an opposed pair in Proof, Cause and effect")  # fmt: skip
        elif d.kind == "motor" and not pair.dead_ms:
            yield advice("dead-time-zero", Place("opposed", item=f"{pair.first}, {pair.second}", index=look.project.opposed.index(pair)),
                         f"{d.name} is turned round while it still runs: it needs {value_of(d, 'run_down_s'):g} s to stand still",
                         "give the pair a dead time")  # fmt: skip


def window_below_travel(look: Look) -> Iterator[Diagnostic]:
    """A step that begins a movement, awaits its end and may not last as long as the movement takes: it is late every time."""
    movements = {
        d.wired(drive).lower(): (d, d.wired(end), round(value_of(d, time) * 1000))
        for d in look.project.devices if d.kind == "actuator"
        for drive, end, time in MOVEMENTS if d.wired(drive) and d.wired(end)
    }  # fmt: skip
    for q in look.project.sequences:
        for s in q.steps:
            begun = (
                [output for a in s.actions if (output := a.target.lower()) in movements] if s.longest.strip() else []
            )
            longest = look.time_ms(s.longest) if begun else None
            for output in begun:
                d, switch, travel = movements[output]
                if longest is None or longest >= travel or not _begins(q, s, output) or not _awaits(q, s, switch):
                    continue
                yield warning("window-below-travel", Place("step", q.name, s.name),
                              f"{d.name} takes {travel / 1000:g} s, and {s.name} may last {longest / 1000:g} s: it is late every time",
                              "give the step more time, or the device less")  # fmt: skip


def _drives(s: Step, output: str) -> bool:
    return any(a.target.lower() == output.lower() and not a.qualifier.resets for a in s.actions)


def _begins(q: Sequence, s: Step, output: str) -> bool:
    """Whether the output comes on in this step: in no step before it is it on."""
    before = [q.step(name) for _, t in q.entering(s.name) for name in t.sources]
    return _drives(s, output) and not any(b is not None and _drives(b, output) for b in before)


def _awaits(q: Sequence, s: Step, switch: str) -> bool:
    return bool(ways := list(q.leaving(s.name))) and all(
        any(u.name == switch.lower() for u in uses_in_expression(t.condition, Place())) for _, t in ways
    )


RULES = (not_given, contact_otherwise, drives_unopposed, window_below_travel)
