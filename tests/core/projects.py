"""Random machine files for properties: small, legal, and full of what makes charts hard.

Each is built from one number that the property draws: a file is a hundred choices, and drawing each by itself takes longer
than the run that is to be looked at.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import replace
from typing import TypeVar

from hypothesis import strategies as st

from spokeshave.model.project import (
    Action,
    AlarmRule,
    Body,
    Interlock,
    OpposedPair,
    Project,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)  # fmt: skip
from spokeshave.model.qualifiers import ACTING


class Chance(random.Random):
    """A source of choices."""

    def yes(self) -> bool:
        return self.random() < 0.5


T = TypeVar("T")


def _made(build: Callable[[Chance], T]) -> st.SearchStrategy[T]:
    return st.integers(0, 2**62).map(lambda seed: build(Chance(seed)))


INPUTS = ("A", "B", "C")
OUTPUTS = ("Y1", "Y2", "Y3")
PERIOD = 10
TIMES = ("T#0s", "T#10ms", "T#20ms", "T#50ms", "Delay")


def _conditions(c: Chance, steps: tuple[str, ...], others: tuple[str, ...] = (), depth: int = 2) -> str:
    """A BOOL expression over inputs, a counter, step members of the own and of other sequences."""
    if depth == 0 or c.randint(0, 2) == 0:
        kind = c.randint(0, 6)
        name = c.choice(INPUTS)
        if kind <= 1:
            return name
        if kind == 2:
            return f"{c.choice(('RISING', 'FALLING'))}({name})"
        if kind == 3:
            return f"HELD({name}, {c.choice(TIMES)})"
        if kind == 4 and steps:
            return f"{c.choice(steps)}.T >= {c.choice(TIMES)}"
        if kind == 5 and steps + others:
            return f"{c.choice(steps + others)}.X"
        return f"Count {c.choice(('<', '>=', '=', '<>'))} {c.randint(0, 3)}"
    a = _conditions(c, steps, others, depth - 1)
    if c.randint(0, 3) == 0:
        return f"NOT ({a})"
    b = _conditions(c, steps, others, depth - 1)
    return f"({a}) {c.choice(('AND', 'OR', 'XOR'))} ({b})"


def _actions(c: Chance, targets: tuple[str, ...]) -> tuple[Action, ...]:
    out = []
    for _ in range(c.randint(0, 2)):
        q = c.choice(ACTING)
        out.append(Action(q, c.choice(targets), c.choice(TIMES) if q.timed else ""))
    return tuple(out)


def _sequences(c: Chance, name: str, targets: tuple[str, ...], others: tuple[str, ...]) -> Sequence:
    """A chart of 2 to 5 steps with alternatives, jumps, and often a simultaneous section."""
    n = c.randint(2, 5)
    steps = tuple(f"{name}{10 * (i + 1)}" for i in range(n))

    def condition() -> str:
        return _conditions(c, steps, others)

    transitions = [Transition((s,), (c.choice(steps),), condition(), c.choice((None, None, 1, 2))) for s in steps]
    transitions += [Transition((c.choice(steps),), (c.choice(steps),), condition()) for _ in range(c.randint(0, 2))]
    if n >= 3 and c.yes():
        a, b = c.sample(steps, 2)
        transitions.append(Transition((c.choice(steps),), (a, b), condition(), c.choice((None, 1))))
        transitions.append(Transition((a, b), (c.choice(steps),), condition()))
    body = Body(
        f"{name}Body", "Count := Count + 1; IF Count > 5 THEN Count := 0; ELSIF A THEN Count := Count - 2; END_IF;"
    )
    made = tuple(
        Step(
            s, 10 * (i + 1), _actions(c, (*targets, body.name)), longest=c.choice(("", "", "T#30ms")),
            response=c.choice(("alarm", "hold", "Low")), permissive=c.choice(("", "", "", "B")),
        )
        for i, s in enumerate(steps)
    )  # fmt: skip
    return Sequence(
        name, c.choice(steps), made, tuple(transitions), (body,),
        hold_when=c.choice(("", "", "C AND A")), hold_outputs=c.choice(("keep", "drop")),
        restart_when=c.choice(("", "", "B AND C")),
    )  # fmt: skip


def _projects(c: Chance, protected: bool = True) -> Project:
    """One or two sequences; with `protected` also interlocks, an opposed pair, trips, opening and closing logic."""
    signals = [Signal(n, SignalClass.INPUT) for n in INPUTS]
    signals += [Signal(n, SignalClass.OUTPUT) for n in (*OUTPUTS, "Z")]
    signals += [
        Signal("Count", SignalClass.INTERNAL, Type.INT),
        Signal("Mark", SignalClass.INTERNAL),
        Signal("Delay", SignalClass.SETTING, Type.TIME, initial=30),
    ]
    targets = (*OUTPUTS, "Mark")
    first = _sequences(c, "P", targets, ())
    seqs = [first]
    if c.yes():
        seqs.append(_sequences(c, "R", targets, tuple(f"P.{s.name}" for s in first.steps)))
    trips = [
        Trip("High", 1, c.choice(("A AND B AND C", "RISING(C)", "FALSE")), _scope(c, seqs),
             c.yes(), c.choice(("freeze", "restart", "go to")), (f"P.{first.steps[1].name}",),
             c.choice(("keep", "clear")), c.choice(("freeze", "zero")), ("Count",)),
        Trip("Low", 2, "FALSE", _scope(c, seqs), c.yes(), c.choice(("freeze", "restart"))),
    ]  # fmt: skip
    if not protected:
        return Project("Random", PERIOD, signals=tuple(signals), sequences=tuple(seqs), trips=(trips[1],))
    return Project(
        "Random", PERIOD, signals=tuple(signals), sequences=tuple(seqs), trips=tuple(trips), reset="RISING(B) OR A",
        opening=c.choice(("", "IF RISING(A) THEN Count := 7; END_IF;")),
        closing=c.choice(("", "Z := Y1 XOR HELD(Y2, T#20ms);")),
        interlocks=(Interlock("Y1", c.choice(("TRUE", "NOT Y2 OR A"))),),
        opposed=(OpposedPair("Y2", "Y3", c.choice((0, 15, 40))),),
        alarms=_alarms(c, seqs),
    )  # fmt: skip


def _alarms(c: Chance, seqs: list[Sequence]) -> tuple[AlarmRule, ...]:
    """Two alarms of their own, one with a delay, and words for the window of a step and for a hold."""
    steps = tuple(f"{seqs[0].name}.{s.name}" for s in seqs[0].steps)
    told = c.choice(steps)
    return (
        AlarmRule("First", _conditions(c, steps), f"{{Count}} counted, {{{told}.T}} in {told}"),
        AlarmRule("Second", _conditions(c, steps, depth=1), delay=c.choice(TIMES)),
        AlarmRule("", text="{A} when it was late", on=f"late {told}"),
        AlarmRule("", text="held", on=f"hold {seqs[0].name}"),
    )


def _scope(c: Chance, seqs: list[Sequence]) -> tuple[str, ...] | None:
    return None if c.yes() else tuple(q.name for q in seqs if c.yes())


def conditions(steps: tuple[str, ...], others: tuple[str, ...] = (), depth: int = 2) -> st.SearchStrategy[str]:
    """A BOOL expression over inputs, a counter, step members of the own and of other sequences."""
    return _made(lambda c: _conditions(c, steps, others, depth))


def projects(protected: bool = True) -> st.SearchStrategy[Project]:
    """One or two sequences; with `protected` also interlocks, an opposed pair, trips, opening and closing logic."""
    return _made(lambda c: _projects(c, protected))


def structured() -> st.SearchStrategy[Project]:
    """A file whose chart has threads: parts one behind the other, alternatives and simultaneous sections, nested."""
    return _made(_structured)


def build_structured(seed: int) -> Project:
    """The file of `structured` that is built from this number."""
    return _structured(Chance(seed))


def build_project(seed: int) -> Project:
    """The file of `projects` that is built from this number."""
    return _projects(Chance(seed))


def runs() -> st.SearchStrategy[list[tuple[bool, bool, bool]]]:
    """Inputs of each scan; values tend to stay, so that times pass."""
    return st.lists(
        st.tuples(st.tuples(*[st.booleans()] * 3), st.integers(1, 6)).map(lambda x: [x[0]] * x[1]),
        min_size=2,
        max_size=9,
    ).map(lambda parts: [row for part in parts for row in part])


def _structured(c: Chance) -> Project:
    """A file whose chart has threads: parts one behind the other, alternatives and simultaneous sections, nested."""
    names: list[str] = []
    ways: list[Transition] = []

    def condition() -> str:
        return _conditions(c, (), depth=1)

    def step() -> str:
        names.append(f"P{10 * len(names) + 10}")
        return names[-1]

    def part(first: str, depth: int) -> str:
        """A part that begins with the step `first`; gives the step it ends with."""
        kind = c.randint(0, 3) if depth else 0
        if kind == 2:
            starts = [step(), step()]
            ways.extend(Transition((first,), (s,), condition()) for s in starts)
            ends = [part(s, depth - 1) for s in starts]
            last = step()
            ways.extend(Transition((e,), (last,), condition()) for e in ends)
            return last
        if kind == 3:
            starts = [step() for _ in range(c.randint(2, 3))]
            ways.append(Transition((first,), tuple(starts), condition()))
            waits = []
            for end in [part(s, depth - 1) for s in starts]:
                waits.append(step())
                ways.append(Transition((end,), (waits[-1],), condition()))
            last = step()
            ways.append(Transition(tuple(waits), (last,), condition()))
            return last
        last = step()
        ways.append(Transition((first,), (last,), condition()))
        return part(last, depth - 1) if kind == 1 else last

    first = step()
    ways.append(Transition((part(first, 2),), (first,), condition()))
    made = tuple(
        Step(n, 10 * i + 10, _actions(c, (*OUTPUTS, "Mark")), longest=c.choice(("", "T#30ms")))
        for i, n in enumerate(names)
    )
    hold = c.choice(("", "C AND A"))
    plain = _projects(c)
    closing = c.choice(("", f"Z := P.{names[-1]}.X XOR P.{names[0]}.T > T#20ms; Count := 0;"))
    chart = Sequence("P", first, made, tuple(ways), hold_when=hold)
    return replace(plain, sequences=(chart,), trips=(), alarms=(), reset="", closing=closing)
