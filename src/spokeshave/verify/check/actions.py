"""Rules on actions and times: stored and never reset, no longest time, windows the wrong way round, held buttons."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.engine.link_sequence import transition_place
from spokeshave.language.sub_sequences import awaits_end, end_of, ends_of
from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.project import Project, Sequence, SignalClass, Step
from spokeshave.verify.check.chart import is_otherwise
from spokeshave.verify.check.devices import both_ways
from spokeshave.verify.check.look import Look, advice, single_ways, warning
from spokeshave.verify.turned_off import TurnedOff
from spokeshave.verify.usage import Use, uses_in_expression


def stored_never_reset(look: Look) -> Iterator[Diagnostic]:
    """Something is stored and no R block of the same target takes it back, or the reverse."""
    stored: dict[str, tuple[Sequence, str, str]] = {}
    reset: dict[str, tuple[Sequence, str, str]] = {}
    for q in look.project.sequences:
        for s in q.steps:
            for a in s.actions:
                if a.qualifier.stored:
                    stored.setdefault(a.target.lower(), (q, s.name, a.target))
                elif a.qualifier.resets:
                    reset.setdefault(a.target.lower(), (q, s.name, a.target))
    for name, (q, step, target) in stored.items():
        if name not in reset:
            yield warning("stored-never-reset", Place("action", q.name, f"{step} {target}"),
                          f"{target} is stored in {step} and reset nowhere", "add an R block where it must end")  # fmt: skip
    for name, (q, step, target) in reset.items():
        if name not in stored:
            yield warning("reset-never-stored", Place("action", q.name, f"{step} {target}"),
                          f"{target} is reset in {step} and stored nowhere", "store it with S, or take the R away")  # fmt: skip


def opposed_in_one_step(look: Look) -> Iterator[Diagnostic]:
    """Both outputs of an opposed pair on in the same step, or both drives of one device."""
    opposed = [(o.first, o.second, "are opposed") for o in look.project.opposed]
    opposed += [(one, other, f"drive {d.name} both ways") for d, one, other in both_ways(look)]
    on_in: dict[str, list[tuple[str, str]]] = {}
    """In which steps something is on."""
    for q in look.project.sequences:
        for s in q.steps:
            for name in {a.target.lower() for a in s.actions if not a.qualifier.resets}:
                on_in.setdefault(name, []).append((q.name, s.name))
    for first, second, why in opposed:
        there = on_in.get(second.lower(), ())
        for sequence, step in on_in.get(first.lower(), ()):
            if (sequence, step) in there:
                yield warning("opposed-together", Place("step", sequence, step),
                              f"{first} and {second} {why}, and both are on in {step}", "take one of them away")  # fmt: skip


def run_not_awaited(look: Look) -> Iterator[Diagnostic]:
    """A step runs a sequence, and no way out of it awaits its end: it is broken off wherever it is."""
    for name, calls in look.runs.items():
        called = look.project.sequence(name)
        ends = {f"{called.name}.{s.name}.x".lower() for s in ends_of(called)} if called is not None else set()
        for call in calls:
            q = look.project.sequence(call.sequence)
            if called is None or q is None or not ends or any(True for _ in awaits_end(q, call.step)):
                continue
            ways = [t.condition for _, t in q.leaving(call.step)]
            if ways and not any(u.name in ends for text in ways for u in uses_in_expression(text, Place())):
                yield warning("run-not-awaited", Place("step", q.name, call.step),
                              f"{call.step} runs {called.name}, and no way out of it awaits its end",
                              f"write {end_of(called)}, or leave the condition away")  # fmt: skip


def no_longest(look: Look) -> Iterator[Diagnostic]:
    """A step that awaits an input without a longest time: when it never comes, nobody is told. One that a time alone ends goes on."""
    for q in look.project.sequences:
        for s in q.steps:
            if s.longest.strip() or s.name == q.initial or any(is_otherwise(q, i) for i, _ in q.leaving(s.name)):
                continue
            awaited = [n for _, t in q.leaving(s.name) for n in _inputs(look.project, t.condition, s.name)]
            if awaited and not any(_by_time(q, s, t.condition, look.project) for _, t in single_ways(q, s.name)):
                yield advice("no-longest", Place("step", q.name, s.name),
                             f"{s.name} awaits {awaited[0]} and has no longest time",
                             "set one, so that a signal that never comes is told")  # fmt: skip


def _by_time(q: Sequence, step: Step, condition: str, project: Project) -> bool:
    """Whether a condition asks for nothing but the time of the step, against times that stand still."""
    names = {use.name for use in uses_in_expression(condition, Place())}
    own = {f"{step.name}.t".lower(), f"{q.name}.{step.name}.t".lower()}
    still = {s.name.lower() for s in project.settings}
    return bool(names & own) and names <= own | still


def _inputs(project: Project, condition: str, step: str) -> list[str]:
    found = []
    for use in uses_in_expression(condition, Place()):
        signal = project.signal(use.name)
        if signal is not None and signal.cls is SignalClass.INPUT and not _operated(project, signal.name):
            found.append(signal.name)
    return found


def _operated(project: Project, name: str) -> bool:
    """Whether a person gives this input, so that waiting for it without end is meant."""
    return any(
        d.kind in ("button", "emergency", "selector") and any(s.lower() == name.lower() for _, s in d.wires)
        for d in project.devices
    )


def window_reversed(look: Look) -> Iterator[Diagnostic]:
    """Shortest longer than longest, or a transition time that the longest time never lets come."""
    for q in look.project.sequences:
        for s in q.steps:
            shortest, longest = look.time_ms(s.shortest), look.time_ms(s.longest)
            if shortest is not None and longest is not None and shortest >= longest:
                yield warning("window-reversed", Place("step", q.name, s.name),
                              f"its shortest time {s.shortest} is not below its longest {s.longest}",
                              "exchange or correct them")  # fmt: skip


def level_for_edge(look: Look) -> Iterator[Diagnostic]:
    """The same button, as a level, both leads into a step and out of it: held down, it runs straight through."""
    buttons = {d.wired("contact").lower() for d in look.project.devices if d.kind == "button"}
    for q in look.project.sequences if buttons else ():
        for s in q.steps:
            into = [u for _, t in q.entering(s.name) for u in _levels(look.project, t.condition, buttons)]
            for i, t in q.leaving(s.name):
                for use in _levels(look.project, t.condition, buttons):
                    if any(u.name == use.name for u in into):
                        name = getattr(look.project.signal(use.name), "name", use.name)
                        yield warning("level-for-edge", transition_place(q, i),
                                      f"{name} leads into {s.name} and out of it; held down it steps twice",
                                      f"write RISING({name})")  # fmt: skip


def _levels(project: Project, condition: str, buttons: set[str]) -> list[Use]:
    return [
        u for u in uses_in_expression(condition, Place())
        if u.name in buttons and not u.edge and project.signal(u.name) is not None and f"not {u.name}" not in condition.lower()
    ]  # fmt: skip


def trip_without_reset(look: Look) -> Iterator[Diagnostic]:
    """A latching trip in a project without a reset can never end; a trip without scope does nothing."""
    for trip in look.project.trips:
        place = Place("trip", item=trip.name)
        if trip.latching and not look.project.reset.strip():
            yield warning("trip-no-reset", place, f"{trip.name} latches, and the project has no reset",
                          "write the project's reset expression")  # fmt: skip
        if trip.scope == ():
            yield warning("trip-no-scope", place, f"{trip.name} has no sequence in its scope", "name its sequences")


def trip_misses_output(look: Look) -> Iterator[Diagnostic]:
    """An output that no latching trip turns off, in a machine whose trips turn off others."""
    for s in TurnedOff(look.project).missed():
        yield Diagnostic(
            "trip-misses-output", Severity.ERROR, Place("signal", item=s.name),
            f"no latching trip turns {s.name} off, though other outputs are turned off",
            "let a trip act on all sequences, add an interlock, or say at a trip that it may stay on",
        )  # fmt: skip


RULES = (
    stored_never_reset, opposed_in_one_step, run_not_awaited, no_longest, window_reversed, level_for_edge, trip_without_reset,
    trip_misses_output,
)  # fmt: skip
