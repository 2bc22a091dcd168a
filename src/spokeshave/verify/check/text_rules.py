"""Rules on names and texts: names that are nearly the same, timers that end themselves, counts met by chance, dead lines."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from spokeshave.engine.link_sequence import transition_place
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import Diagnostic, Place
from spokeshave.model.project import Sequence, SignalClass, Type
from spokeshave.verify.check.look import Look, advice, warning
from spokeshave.verify.usage import names_in

_MIXED = str.maketrans({"0": "o", "1": "l", "i": "l", "_": None, "5": "s"})
"""Letters that look alike, and what a person does not read."""


def nearly_the_same(look: Look) -> Iterator[Diagnostic]:
    """Two signals whose names a person takes for each other: `Valve_1` and `ValveI`, `Gate0` and `GateO`."""
    first: dict[str, str] = {}
    for s in look.project.signals:
        key = s.name.lower().translate(_MIXED)
        if key in first and first[key].lower() != s.name.lower():
            yield warning("name-near", Place("signal", item=s.name), f"{s.name} and {first[key]} are nearly the same name",
                          "rename one of them so that nobody takes it for the other")  # fmt: skip
        first.setdefault(key, s.name)


def _conditions(look: Look) -> Iterator[tuple[Place, Sequence | None, sx.Expression]]:
    """Conditions of transitions, interlocks, trips and alarms that can be read."""
    found: list[tuple[Place, Sequence | None, str]] = []
    for q in look.project.sequences:
        found += [(transition_place(q, i), q, t.condition) for i, t in enumerate(q.transitions)]
    found += [(Place("interlock", item=i.output), None, i.condition) for i in look.project.interlocks]
    found += [(Place("trip", item=t.name), None, t.condition) for t in look.project.trips]
    found += [(Place("alarm", item=a.name), None, a.condition) for a in look.project.alarms if not a.on]
    for place, owner, text in found:
        try:
            yield place, owner, parse_expression(text)
        except TextError:
            continue


def _parts(tree: sx.Expression) -> Iterator[sx.Expression]:
    yield tree
    for part in sx.parts(tree):
        yield from _parts(part)


def timer_ends_itself(look: Look) -> Iterator[Diagnostic]:
    """A TON whose own Q takes its input away: Q is on for one scan, and a text that runs before never sees it."""
    kinds = {i.name.lower(): i.kind.upper() for i in look.project.instances}
    for place, s in look.each_statement():
        if not isinstance(s, sx.BlockCall) or kinds.get(str(s.instance).lower()) != "TON":
            continue
        own = f"{s.instance}.q".lower()
        started = [a.value for a in s.inputs if a.name.lower() == "in"]
        if any(name == own for tree in started for name, _ in names_in(tree)):
            yield warning("timer-resets-itself", place.spot(s.span.line, s.span.column),
                          f"{s.instance} is ended by its own Q, so Q is on for one scan only",
                          "end it by what it has started, or read Q behind the call in the same text")  # fmt: skip


def met_by_chance(look: Look) -> Iterator[Diagnostic]:
    """A count, a time or a measured number compared with `=`, or also with `<>` to a setting: it can step over the value it is to meet."""
    for place, q, tree in _conditions(look):
        yield from (_by_chance(place, said) for part in _parts(tree) if (said := _chance(look, q, part)))
    for place, s in look.each_statement():
        q = look.project.sequence(place.sequence)
        for part in (part for tree in sx.children(s)[0] for part in _parts(tree)):
            if (said := _chance(look, q, part)) and said.setting:
                yield _by_chance(place.spot(s.span.line, s.span.column), said)


@dataclass(frozen=True, slots=True)
class _Chance:
    """What is compared, what can be said of it, and the setting that it is compared with, if it is one."""

    name: str
    what: str
    setting: str = ""


def _chance(look: Look, q: Sequence | None, part: sx.Expression) -> _Chance | None:
    if not isinstance(part, sx.Binary) or part.op not in ("=", "<>"):
        return None
    for one, other in ((part.left, part.right), (part.right, part.left)):
        what = _steps_over(look, q, one)
        if what and not isinstance(other, sx.Name):
            return _Chance(str(one), what) if part.op == "=" else None
        signal = look.project.signal(str(other)) if what else None
        if signal is not None and signal.cls is SignalClass.SETTING:
            return _Chance(str(one), what, signal.name)
    return None


def _by_chance(place: Place, said: _Chance) -> Diagnostic:
    over = f"{said.setting}, which may be changed meanwhile" if said.setting else "the value it is compared with"
    return warning(
        "equal-overshoots", place, f"{said.name} is {said.what} and can step over {over}", "compare with >= or <="
    )


def _steps_over(look: Look, q: Sequence | None, tree: sx.Expression) -> str:
    if not isinstance(tree, sx.Name):
        return ""
    name = str(tree).lower()
    of_step = len(tree.parts) == 3 or (len(tree.parts) == 2 and q is not None and q.step(tree.parts[0]) is not None)
    if of_step and tree.parts[-1].lower() == "t":
        return "a step time"
    signal = look.project.signal(name)
    if signal is None:
        return ""
    if signal.type is Type.REAL:
        return "a measured number"
    return "counted" if signal.type in (Type.INT, Type.DINT) and name in look.counted else ""


def beyond_the_window(look: Look) -> Iterator[Diagnostic]:
    """A way out that waits for a step time which the step's longest time is over before."""
    for q in look.project.sequences:
        for i, t in enumerate(q.transitions):
            step = q.step(t.sources[0]) if len(t.sources) == 1 else None
            longest = None if step is None else look.time_ms(step.longest)
            if step is None or longest is None:
                continue
            try:
                tree = parse_expression(t.condition)
            except TextError:
                continue
            for part in _parts(tree):
                if (
                    isinstance(part, sx.Binary)
                    and part.op in (">=", ">")
                    and str(part.left).lower() == f"{step.name}.t".lower()
                ):
                    awaited = part.right.value if isinstance(part.right, sx.Literal) else look.time_ms(str(part.right))
                    if isinstance(awaited, int) and awaited >= longest:
                        yield warning("time-beyond-window", transition_place(q, i),
                                      f"it waits until {step.name} has lasted {awaited} ms, and {step.name} is late after {longest} ms",
                                      "make the longest time longer, or the awaited one shorter")  # fmt: skip


def dead_lines(look: Look) -> Iterator[Diagnostic]:
    """Statements behind a RETURN or EXIT in the same block never run."""
    for place, block in look.statements:
        blocks = [block, *(inner for s in sx.every_statement(block) for inner in sx.children(s)[1])]
        for lines in blocks:
            for s, following in pairwise(lines):
                if isinstance(s, sx.Jump):
                    spot = place.spot(following.span.line, following.span.column)
                    yield warning(
                        "statement-unreachable",
                        spot,
                        f"nothing behind {s.kind.upper()} runs",
                        "take it away, or move it before",
                    )
                    break


def interlock_never_lets(look: Look) -> Iterator[Diagnostic]:
    """An interlock that asks for its own output, or for what only its output brings: it can never be satisfied."""
    for lock in look.project.interlocks:
        try:
            tree = parse_expression(lock.condition)
        except TextError:
            continue
        output = lock.output.lower()
        brought = set()
        for d in look.project.devices:
            if d.kind == "actuator" and d.wired("extend").lower() == output:
                brought.add(d.wired("extended").lower())
            elif d.kind == "motor" and d.wired("run").lower() == output:
                brought.add(d.wired("running").lower())
        for part in _needed(tree):
            if isinstance(part, sx.Name) and str(part).lower() in brought - {""}:
                yield warning("interlock-circular", Place("interlock", item=lock.output),
                              f"{lock.output} needs {part}, which comes only when {lock.output} is on",
                              "await it in a step, or take it out of the interlock")  # fmt: skip
            elif isinstance(part, sx.Unary) and part.op == "NOT" and str(part.operand).lower() == output:
                yield warning("interlock-circular", Place("interlock", item=lock.output),
                              f"NOT {part.operand} is FALSE whenever {lock.output} is asked for, so it never comes on",
                              "take it out of the interlock")  # fmt: skip


def written_twice(look: Look) -> Iterator[Diagnostic]:
    """An output that several texts write: which of them has its way hangs on which runs last. Bodies of a sequence that is in one
    step at a time count as one text.
    """
    single = {q.name for q in look.project.sequences if all(len(t.targets) == 1 for t in q.transitions)}
    for s in look.project.signals:
        if s.cls is not SignalClass.OUTPUT:
            continue
        places = list(dict.fromkeys(u.place.spot(0, 0) for u in look.used(s.name, "write") if u.place.kind != "trip"))
        texts = {p.sequence if p.kind == "body" and p.sequence in single else str(p) for p in places}
        if len(texts) > 1:
            yield warning("written-twice", Place("signal", item=s.name), f"{s.name} is written by {' and by '.join(map(str, places))}",
                          "write it in one place, and tell that place by internals")  # fmt: skip


def _needed(tree: sx.Expression) -> Iterator[sx.Expression]:
    """The terms that must all be TRUE."""
    if isinstance(tree, sx.Binary) and tree.op == "AND":
        yield from _needed(tree.left)
        yield from _needed(tree.right)
    else:
        yield tree


def no_time(look: Look) -> Iterator[Diagnostic]:
    """A time of an action that is nothing."""
    for q in look.project.sequences:
        for s in q.steps:
            for a in s.actions:
                if a.qualifier.timed and look.time_ms(a.time) == 0:
                    yield advice("time-zero", Place("action", q.name, f"{s.name} {a.target}"), f"{a.qualifier} {a.target} has the time 0",
                                 "give it a time, or another qualifier")  # fmt: skip


RULES = (
    nearly_the_same, timer_ends_itself, met_by_chance, beyond_the_window, dead_lines, interlock_never_lets, written_twice,
    no_time,
)  # fmt: skip
