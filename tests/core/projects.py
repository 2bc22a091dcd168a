"""Random machine files for properties: small, legal, and full of what makes charts hard."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import strategies as st

from spokeshave.model.project import (
    Action,
    Body,
    Interlock,
    OpposedPair,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)  # fmt: skip

INPUTS = ("A", "B", "C")
OUTPUTS = ("Y1", "Y2", "Y3")
PERIOD = 10
TIMES = ("T#0s", "T#10ms", "T#20ms", "T#50ms", "Delay")


@st.composite
def conditions(draw: st.DrawFn, steps: tuple[str, ...], others: tuple[str, ...] = (), depth: int = 2) -> str:
    """A BOOL expression over inputs, a counter, step members of the own and of other sequences."""
    if depth == 0 or draw(st.integers(0, 2)) == 0:
        kind = draw(st.integers(0, 6))
        name = draw(st.sampled_from(INPUTS))
        if kind <= 1:
            return name
        if kind == 2:
            return f"{draw(st.sampled_from(('RISING', 'FALLING')))}({name})"
        if kind == 3:
            return f"HELD({name}, {draw(st.sampled_from(TIMES))})"
        if kind == 4 and steps:
            return f"{draw(st.sampled_from(steps))}.T >= {draw(st.sampled_from(TIMES))}"
        if kind == 5 and steps + others:
            return f"{draw(st.sampled_from(steps + others))}.X"
        return f"Count {draw(st.sampled_from(('<', '>=', '=', '<>')))} {draw(st.integers(0, 3))}"
    a = draw(conditions(steps, others, depth - 1))
    if draw(st.integers(0, 3)) == 0:
        return f"NOT ({a})"
    b = draw(conditions(steps, others, depth - 1))
    return f"({a}) {draw(st.sampled_from(('AND', 'OR', 'XOR')))} ({b})"


@st.composite
def actions(draw: st.DrawFn, targets: tuple[str, ...]) -> tuple[Action, ...]:
    out = []
    for _ in range(draw(st.integers(0, 2))):
        q = draw(st.sampled_from(list(Qualifier)))
        out.append(Action(q, draw(st.sampled_from(targets)), draw(st.sampled_from(TIMES)) if q.timed else ""))
    return tuple(out)


@st.composite
def sequences(draw: st.DrawFn, name: str, targets: tuple[str, ...], others: tuple[str, ...]) -> Sequence:
    """A chart of 2 to 5 steps with alternatives, jumps, and often a simultaneous section."""
    n = draw(st.integers(2, 5))
    steps = tuple(f"{name}{10 * (i + 1)}" for i in range(n))

    def condition() -> str:
        return draw(conditions(steps, others))

    transitions = [
        Transition((s,), (draw(st.sampled_from(steps)),), condition(), draw(st.sampled_from((None, None, 1, 2))))
        for s in steps
    ]
    transitions += [
        Transition((draw(st.sampled_from(steps)),), (draw(st.sampled_from(steps)),), condition())
        for _ in range(draw(st.integers(0, 2)))
    ]
    if n >= 3 and draw(st.booleans()):
        a, b = draw(st.lists(st.sampled_from(steps), min_size=2, max_size=2, unique=True))
        transitions.append(
            Transition((draw(st.sampled_from(steps)),), (a, b), condition(), draw(st.sampled_from((None, 1))))
        )
        transitions.append(Transition((a, b), (draw(st.sampled_from(steps)),), condition()))
    body = Body(
        f"{name}Body", "Count := Count + 1; IF Count > 5 THEN Count := 0; ELSIF A THEN Count := Count - 2; END_IF;"
    )
    made = tuple(
        Step(
            s, 10 * (i + 1), draw(actions((*targets, body.name))), longest=draw(st.sampled_from(("", "", "T#30ms"))),
            response=draw(st.sampled_from(("alarm", "hold", "Low"))), permissive=draw(st.sampled_from(("", "", "", "B"))),
        )
        for i, s in enumerate(steps)
    )  # fmt: skip
    return Sequence(
        name, draw(st.sampled_from(steps)), made, tuple(transitions), (body,),
        hold_when=draw(st.sampled_from(("", "", "C AND A"))), hold_outputs=draw(st.sampled_from(("keep", "drop"))),
        restart_when=draw(st.sampled_from(("", "", "B AND C"))),
    )  # fmt: skip


@st.composite
def projects(draw: st.DrawFn, protected: bool = True) -> Project:
    """One or two sequences; with `protected` also interlocks, an opposed pair, trips, opening and closing logic."""
    signals = [Signal(n, SignalClass.INPUT) for n in INPUTS]
    signals += [Signal(n, SignalClass.OUTPUT) for n in (*OUTPUTS, "Z")]
    signals += [
        Signal("Count", SignalClass.INTERNAL, Type.INT),
        Signal("Mark", SignalClass.INTERNAL),
        Signal("Delay", SignalClass.SETTING, Type.TIME, initial=30),
    ]
    targets = (*OUTPUTS, "Mark")
    first = draw(sequences("P", targets, ()))
    seqs = [first]
    if draw(st.booleans()):
        seqs.append(draw(sequences("R", targets, tuple(f"P.{s.name}" for s in first.steps))))
    trips = [
        Trip("High", 1, draw(st.sampled_from(("A AND B AND C", "RISING(C)", "FALSE"))), draw(_scope(seqs)),
             draw(st.booleans()), draw(st.sampled_from(("freeze", "restart", "go to"))), (f"P.{first.steps[1].name}",),
             draw(st.sampled_from(("keep", "clear"))), draw(st.sampled_from(("freeze", "zero"))), ("Count",)),
        Trip("Low", 2, "FALSE", draw(_scope(seqs)), draw(st.booleans()), draw(st.sampled_from(("freeze", "restart")))),
    ]  # fmt: skip
    if not protected:
        return Project("Random", PERIOD, signals=tuple(signals), sequences=tuple(seqs), trips=(trips[1],))
    return Project(
        "Random", PERIOD, signals=tuple(signals), sequences=tuple(seqs), trips=tuple(trips), reset="RISING(B) OR A",
        opening=draw(st.sampled_from(("", "IF RISING(A) THEN Count := 7; END_IF;"))),
        closing=draw(st.sampled_from(("", "Z := Y1 XOR HELD(Y2, T#20ms);"))),
        interlocks=(Interlock("Y1", draw(st.sampled_from(("TRUE", "NOT Y2 OR A")))),),
        opposed=(OpposedPair("Y2", "Y3", draw(st.sampled_from((0, 15, 40)))),),
    )  # fmt: skip


def _scope(seqs: list[Sequence]) -> st.SearchStrategy[tuple[str, ...]]:
    return st.lists(st.sampled_from([q.name for q in seqs]), unique=True).map(tuple)


def runs() -> st.SearchStrategy[list[tuple[bool, bool, bool]]]:
    """Inputs of each scan; values tend to stay, so that times pass."""
    return st.lists(
        st.tuples(st.tuples(*[st.booleans()] * 3), st.integers(1, 6)).map(lambda x: [x[0]] * x[1]),
        min_size=2,
        max_size=9,
    ).map(lambda parts: [row for part in parts for row in part])


@st.composite
def structured(draw: st.DrawFn) -> Project:
    """A file whose chart has threads: parts one behind the other, alternatives and simultaneous sections, nested."""
    names: list[str] = []
    ways: list[Transition] = []
    condition = conditions((), depth=1)

    def step() -> str:
        names.append(f"P{10 * len(names) + 10}")
        return names[-1]

    def part(first: str, depth: int) -> str:
        """A part that begins with the step `first`; gives the step it ends with."""
        kind = draw(st.integers(0, 3)) if depth else 0
        if kind == 2:
            starts = [step(), step()]
            ways.extend(Transition((first,), (s,), draw(condition)) for s in starts)
            ends = [part(s, depth - 1) for s in starts]
            last = step()
            ways.extend(Transition((e,), (last,), draw(condition)) for e in ends)
            return last
        if kind == 3:
            starts = [step() for _ in range(draw(st.integers(2, 3)))]
            ways.append(Transition((first,), tuple(starts), draw(condition)))
            waits = []
            for end in [part(s, depth - 1) for s in starts]:
                waits.append(step())
                ways.append(Transition((end,), (waits[-1],), draw(condition)))
            last = step()
            ways.append(Transition(tuple(waits), (last,), draw(condition)))
            return last
        last = step()
        ways.append(Transition((first,), (last,), draw(condition)))
        return part(last, depth - 1) if kind == 1 else last

    first = step()
    ways.append(Transition((part(first, 2),), (first,), draw(condition)))
    made = tuple(
        Step(n, 10 * i + 10, draw(actions((*OUTPUTS, "Mark"))), longest=draw(st.sampled_from(("", "T#30ms"))))
        for i, n in enumerate(names)
    )
    hold = draw(st.sampled_from(("", "C AND A")))
    plain = draw(projects())
    closing = draw(st.sampled_from(("", f"Z := P.{names[-1]}.X XOR P.{names[0]}.T > T#20ms; Count := 0;")))
    chart = Sequence("P", first, made, tuple(ways), hold_when=hold)
    return replace(plain, sequences=(chart,), trips=(), reset="", closing=closing)
