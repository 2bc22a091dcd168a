"""Edits of the cause-and-effect matrix: another cause, another effect, a row more or less. Each is one undo."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.language.literals import duration_ms, time_text
from spokeshave.language.terms import terms_of, with_terms
from spokeshave.model import edits
from spokeshave.model.diagnostics import did_you_mean
from spokeshave.model.edits import EditError
from spokeshave.model.project import Interlock, OpposedPair, Project, SignalClass, Step, Trip, Type
from spokeshave.verify.cause_effect import OUTSIDE, Cause, Effect

KINDS = ("interlock", "opposed", "permissive", "window", "hold", "restart", "trip")
NONE = "-"
"""The choice that takes an effect away."""


def choices(project: Project, cause: Cause, effect: Effect) -> tuple[str, ...]:
    """What a cell can be made to say; empty where the row has nothing to do with the column."""
    kind = cause.kind
    if kind == "interlock" and effect.kind == "output":
        return (NONE, "off")
    if kind == "permissive" and effect.kind == "step" and _is_of(cause, effect):
        return (NONE, "waits")
    if kind == "window" and effect.kind == "step" and _is_of(cause, effect):
        return ("alarm", "hold", *(t.name for t in project.trips))
    if kind == "hold" and effect.kind == "sequence":
        return (NONE, "keeps", "drops") if _is_of(cause, effect) else ()
    if kind == "trip" and effect.kind == "sequence":
        return (OUTSIDE, "freeze", "restart", "go to")
    if kind == "trip" and effect.kind == "output":
        return ("off", "keeps")
    if kind == "trip" and effect.kind == "step":
        trip = project.trips[_trip_index(project, _guards(cause))]
        q = project.sequence(effect.name)
        goes = trip.steps == "go to" and q is not None and trip.acts_on(q.name)
        return tuple(s.name for s in q.steps) if goes and q is not None else ()
    return ()


def _is_of(cause: Cause, effect: Effect) -> bool:
    return effect.name.lower() == _guards(cause).partition(".")[0].lower()


def set_effect(project: Project, cause: Cause, effect: Effect, word: str) -> Project:
    """Makes a cell say `word`. Raises `EditError` where it cannot."""
    offered = choices(project, cause, effect)
    if word not in offered:
        raise EditError(f"{word!r} does not fit here; it can be {', '.join(offered) or 'nothing'}")
    if cause.kind == "interlock":
        return _set_term(project, effect.name, cause.condition, cause.condition if word != NONE else "")
    if cause.kind == "permissive":
        return _change_step(project, _guards(cause), permissive="" if word == NONE else cause.condition)
    if cause.kind == "window":
        return _change_step(project, _guards(cause), response=word)
    if cause.kind == "hold":
        if word == NONE:
            return edits.change_sequence(project, effect.name, hold_when="")
        return edits.change_sequence(project, effect.name, hold_outputs="drop" if word == "drops" else "keep")
    return _set_trip_effect(project, _guards(cause), effect, word)


def set_cause(project: Project, cause: Cause, text: str) -> Project:
    """Another condition, time or dead time. An empty one takes the row away."""
    text = text.strip()
    if not text:
        return remove(project, cause)
    for name in cause.names:
        guards = name.partition(" ")[2]
        match cause.kind:
            case "interlock":
                project = _set_term(project, guards, cause.condition, text)
            case "permissive":
                project = _change_step(project, guards, permissive=text)
            case "window":
                project = _change_step(project, guards, **_window(project, text))
            case "hold":
                project = edits.change_sequence(project, guards, hold_when=text)
            case "restart":
                project = edits.change_sequence(project, guards, restart_when=text)
            case "trip":
                project = change_trip(project, guards, condition=text)
            case "opposed":
                project = edits.change_item(project, "opposed", cause.place.index, dead_ms=_dead(text))
    return project


def remove(project: Project, cause: Cause) -> Project:
    """Takes the rules of a row away."""
    for name in cause.names:
        guards = name.partition(" ")[2]
        match cause.kind:
            case "interlock":
                project = _set_term(project, guards, cause.condition, "")
            case "permissive":
                project = _change_step(project, guards, permissive="")
            case "window":
                project = _change_step(project, guards, longest="", shortest="", response="alarm")
            case "hold":
                project = edits.change_sequence(project, guards, hold_when="")
            case "restart":
                project = edits.change_sequence(project, guards, restart_when="")
            case "trip":
                project = _remove_trip(project, guards)
            case "opposed":
                project = edits.remove_item(project, "opposed", cause.place.index)
    return project


def add(project: Project, kind: str, guards: str, text: str) -> Project:
    """A rule more: `guards` is an output, a step, a sequence, two outputs with a slash, or the name of a new trip.

    Raises `EditError` for what cannot be guarded, or not by this rule.
    """
    guards, text = guards.strip(), text.strip()
    if kind not in KINDS:
        raise EditError(f"there is no rule {kind!r}; there are {', '.join(KINDS)}")
    if kind == "opposed":
        first, _, second = guards.partition("/")
        pair = OpposedPair(_output(project, first), _output(project, second), _dead(text) if text else 0)
        return edits.add_item(project, "opposed", pair)
    if not text:
        raise EditError(f"say what the {kind} looks at" if kind != "window" else "say the time, such as 5 s")
    if kind == "interlock":
        return _set_term(project, _output(project, guards), "", text)
    if kind == "permissive":
        return _change_step(project, guards, permissive=text)
    if kind == "window":
        return _change_step(project, guards, **_window(project, text))
    if kind == "trip":
        name = guards or edits.free_name("Trip", {t.name.lower() for t in project.trips})
        if any(t.name.lower() == name.lower() for t in project.trips):
            raise EditError(f"there is a trip {name} already")
        rank = max((t.rank for t in project.trips), default=0) + 1
        return edits.add_item(project, "trips", Trip(name, rank, text))
    if project.sequence(guards) is None:
        raise EditError(_no("sequence", guards, [q.name for q in project.sequences]))
    return edits.change_sequence(project, guards, **{"hold_when" if kind == "hold" else "restart_when": text})


def guards_of(project: Project, kind: str) -> list[str]:
    """What a rule of this kind can guard, for completion."""
    outputs = [s.name for s in project.signals if s.cls is SignalClass.OUTPUT and s.type is Type.BOOL]
    if kind == "interlock":
        return outputs
    if kind == "opposed":
        return [f"{a}/{b}" for i, a in enumerate(outputs) for b in outputs[i + 1 :]]
    if kind in ("permissive", "window"):
        return [f"{q.name}.{s.name}" for q in project.sequences for s in q.steps]
    if kind == "trip":
        return [edits.free_name("Trip", {t.name.lower() for t in project.trips})]
    return [q.name for q in project.sequences]


def change_trip(project: Project, name: str, /, **changes: object) -> Project:
    """Other effects, another rank, condition or name of a trip; steps whose response it is follow its name.

    Raises `EditError` for a name that is taken or none, and for what there is not.
    """
    index = _trip_index(project, name)
    new = str(changes.get("name", name))
    if new.lower() != name.lower() and any(t.name.lower() == new.lower() for t in project.trips):
        raise EditError(f"there is a trip {new} already")
    old = project.trips[index].name
    project = edits.change_item(project, "trips", index, **changes)
    return project if new == old else _answer_with(project, old, new)


def _guards(cause: Cause) -> str:
    return cause.names[0].partition(" ")[2]


def _trip_index(project: Project, name: str) -> int:
    found = next((i for i, t in enumerate(project.trips) if t.name.lower() == name.lower()), -1)
    if found < 0:
        raise EditError(_no("trip", name, [t.name for t in project.trips]))
    return found


def _remove_trip(project: Project, name: str) -> Project:
    return _answer_with(edits.remove_item(project, "trips", _trip_index(project, name)), name, "alarm")


def _answer_with(project: Project, old: str, new: str) -> Project:
    """Late steps that raised one trip answer with something else; requirements that it shows and the words of its alarm follow
    another name.
    """
    if new != "alarm":
        rule = {f"trip {old}": f"trip {new}"}
        follow = (replace(r, shown_by=tuple(rule.get(n, n) for n in r.shown_by)) for r in project.requirements)
        project = edits.put_items(project, "requirements", tuple(follow))
        alarms = tuple(replace(a, on=f"trip {new}") if a.key == f"trip {old}".lower() else a for a in project.alarms)
    else:
        alarms = tuple(a for a in project.alarms if a.key != f"trip {old}".lower())
    project = edits.put_items(project, "alarms", alarms)
    for q in project.sequences:
        if any(s.response == old for s in q.steps):
            steps = tuple(replace(s, response=new) if s.response == old else s for s in q.steps)
            project = edits.change_sequence(project, q.name, steps=steps)
    return project


def _set_trip_effect(project: Project, name: str, effect: Effect, word: str) -> Project:
    trip = project.trips[_trip_index(project, name)]
    if effect.kind == "output":
        return change_trip(project, name, stored="clear" if word == "off" else "keep")
    if effect.kind == "step":
        others = tuple(g for g in trip.go_to if g.partition(".")[0].lower() != effect.name.lower())
        return change_trip(project, name, go_to=(*others, f"{effect.name}.{word}"))
    scope = tuple(q.name for q in project.sequences if trip.acts_on(q.name) and q.name.lower() != effect.name.lower())
    to = tuple(g for g in trip.go_to if g.partition(".")[0].lower() != effect.name.lower())
    if word == OUTSIDE:
        return change_trip(project, name, scope=scope, go_to=to)
    q = project.sequence(effect.name)
    assert q is not None
    if word == "go to":
        to = (*to, next((g for g in trip.go_to if g not in to), f"{q.name}.{q.initial}"))
    names = {n.lower() for n in (*scope, q.name)}
    within = tuple(x.name for x in project.sequences if x.name.lower() in names)
    return change_trip(
        project,
        name,
        scope=None if len(within) == len(project.sequences) else within,
        steps=word,
        go_to=to if word == "go to" else (),
    )


def _set_term(project: Project, output: str, old: str, new: str) -> Project:
    """Puts a term of an output's interlocks in the place of `old`; without `old` adds it, without `new` takes it away.

    An interlock goes with its last term.
    """
    mine = [lock for lock in project.interlocks if lock.output.lower() == output.lower()]
    terms = {id(lock): terms_of(lock.condition) for lock in mine}
    if old and old != new:
        for lock in mine:
            swapped = (new if t == old else t for t in terms[id(lock)])
            terms[id(lock)] = tuple(dict.fromkeys(t for t in swapped if t))
    elif not any(new in terms[id(lock)] for lock in mine):
        if not mine:
            return edits.add_item(project, "interlocks", Interlock(output, new))
        terms[id(mine[0])] += (new,)
    kept = (lock for lock in project.interlocks if terms.get(id(lock), True))
    locks = (replace(x, condition=with_terms(terms[id(x)])) if id(x) in terms else x for x in kept)
    return replace(project, interlocks=tuple(locks))


def _change_step(project: Project, name: str, **changes: str) -> Project:
    sequence, _, step = name.partition(".")
    q = project.sequence(sequence)
    found: Step | None = q.step(step) if q is not None else None
    if q is None or found is None:
        raise EditError(_no("step", name, [f"{x.name}.{s.name}" for x in project.sequences for s in x.steps]))
    return edits.change_step(project, q.name, found.name, **changes)


def _output(project: Project, name: str) -> str:
    name = name.strip()
    signal = project.signal(name)
    if signal is None or signal.cls is not SignalClass.OUTPUT or signal.type is not Type.BOOL:
        raise EditError(_no("BOOL output", name or "(none)", [s.name for s in project.signals]))
    return signal.name


def _no(what: str, name: str, known: list[str]) -> str:
    offer = did_you_mean(name, known)
    return f"there is no {what} {name}" + (f"; {offer}" if offer else "")


def _dead(text: str) -> int:
    text = text.strip().lower().removeprefix("dead time").strip()
    if text in ("never both", "0"):
        return 0
    try:
        return int(text) if text.isdigit() else duration_ms(text)
    except ValueError:
        raise EditError(f"{text} is no dead time; write one such as 500 ms") from None


def _window(project: Project, text: str) -> dict[str, str]:
    """A window as a step keeps it: `5 s`, a setting, `2 s to 5 s`, `2 s at least`."""
    shortest, to, longest = text.rpartition(" to ")
    if text.endswith("at least"):
        return {"shortest": _time(project, text.removesuffix("at least")), "longest": ""}
    return {"shortest": _time(project, shortest) if to else "", "longest": _time(project, longest)}


def _time(project: Project, text: str) -> str:
    """A time as a step keeps it: a literal, or the name of a setting."""
    text = text.strip()
    signal = project.signal(text)
    if signal is not None and signal.type is Type.TIME:
        return signal.name
    try:
        return time_text(duration_ms(text))
    except ValueError:
        raise EditError(f"{text} is no time; write one such as 5 s, or a TIME setting") from None
