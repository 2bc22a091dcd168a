"""Alarms in a run: raised, cleared, acknowledged, shelved (semantics 9.6)."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.engine.program import LinkedSequence, Program
from spokeshave.engine.situation import Alarm, Mode, Situation, clear_alarm, event
from spokeshave.model.diagnostics import Place


def raise_alarm(program: Program, s: Situation, ident: str, text: str, place: Place) -> None:
    """Raises an alarm unless it stands already, and logs it: in the words that somebody gave it, else in `text`. One that is
    shelved stands without being told (semantics 9.6).
    """
    if not standing(s, ident):
        words = program.words.get(ident)
        s.alarms[ident] = alarm = Alarm(ident, text if words is None else words.of(s.v), place, s.k)
        event(s, "alarm shelved" if ident in s.shelved else "alarm", alarm.text, place, ident)


def standing(s: Situation, ident: str) -> bool:
    """Whether an alarm was raised and is not cleared."""
    a = s.alarms.get(ident)
    return a is not None and a.cleared < 0


def alarm_told(s: Situation, alarm: Alarm) -> bool:
    """Whether an alarm stands and nobody has put it aside."""
    return alarm.cleared < 0 and alarm.ident not in s.shelved


def see_alarms(program: Program, s: Situation) -> None:
    """Alarms with a condition of their own, as listed, on what trips look at (phase 5)."""
    for alarm in program.alarms:
        if alarm.condition(s.v):
            raise_alarm(program, s, alarm.ident, alarm.text, alarm.place)
        elif s.alarms:
            clear_alarm(s, alarm.ident)


def alarms_stay(program: Program, s: Situation) -> bool:
    """Whether `see_alarms` would raise none and clear none."""
    return all(bool(alarm.condition(s.v)) is standing(s, alarm.ident) for alarm in program.alarms)


def tell_hold(program: Program, s: Situation, seq: LinkedSequence) -> None:
    """The alarm of a hold, where it has words: it stands as long as the sequence is held."""
    ident = f"hold:{seq.name}"
    if ident not in program.words:
        return
    if s.mode[seq.index] is Mode.HELD:
        raise_alarm(program, s, ident, f"hold {seq.name}", Place("sequence", item=seq.name))
    else:
        clear_alarm(s, ident)


def acknowledge(s: Situation, ident: str) -> None:
    """One alarm, or all that are not yet without `ident`, in the present scan."""
    for name, a in list(s.alarms.items()):
        if a.acknowledged < 0 and ident in ("", name):
            s.alarms[name] = replace(a, acknowledged=s.k)
            event(s, "alarm acknowledged", a.text, a.place, name)


def shelve(s: Situation, ident: str, on: bool) -> None:
    """Puts an alarm aside, or takes it back: while it is shelved it comes and goes without being told."""
    if on is (ident in s.shelved):
        return
    (s.shelved.add if on else s.shelved.discard)(ident)
    event(s, "shelved" if on else "unshelved", ident, Place())
