"""A state program as a sequence, in the form that its `Choices` allow."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

from spokeshave.formats.states.bodies import BodyMaker
from spokeshave.formats.states.choices import Choices, Lifted, Note
from spokeshave.formats.states.clocks import entry_flags, last_of, take_clocks
from spokeshave.formats.states.find import Found, Machine, Side
from spokeshave.formats.states.flow import Flow, sets
from spokeshave.formats.states.fold import (
    NOWHERE,
    Known,
    folded,
    is_true,
    names_in,
    negated,
    read_by,
    same,
    stripped,
    written_by,
)
from spokeshave.formats.states.outputs import Follower, follower
from spokeshave.formats.states.spoken import Spoken, with_entry
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.printer import expression_text, statements_text
from spokeshave.model.diagnostics import several
from spokeshave.model.edits import free_name
from spokeshave.model.project import (
    Action,
    Body,
    Instance,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Type,
)

Q = Qualifier
ONE_SCAN = "T#1ms"
"""A time that is over in the scan behind that in which a step is entered, whatever the scan period."""


class Lifter(BodyMaker):
    """Puts the machines of one text as sequences. `text` is the whole file."""

    def __init__(
        self, found: Found, text: str, signals: dict[str, Signal], instances: dict[str, Instance], constants: Known,
        period_ms: int, choices: Choices,
    ) -> None:  # fmt: skip
        self.found, self.text, self.signals, self.instances = found, text, signals, instances
        self.constants, self.period_ms, self.choices = constants, period_ms, choices
        self.taken = {*signals, *instances}
        self.spoken = Spoken(found.machines, constants, signals)
        self.out = Lifted(speaks=self.spoken.in_text)
        self.around: list[sx.Statement | None] = list(found.around)
        """What is left of the statements around the branches."""
        self.dropped: set[str] = set()
        """Names that are needed no more, if nothing reads them."""
        self.moved: list[sx.Statement] = []
        """Calls that stand above the branches now."""
        self.logic: list[str] = []
        """What branches do that is no body, as opening logic behind that of the text."""
        self.labels: dict[str, Known] = {}

    def lift(self) -> Lifted:
        for m in self.found.machines:
            self._machine(m)
        self._logic()
        read = self._read()
        names = {n for m in self.found.machines for n in (m.var, m.next)} | ({self.found.first} - {""})
        constants = {
            low for low in self.constants if low in {s.name.lower() for q in self.out.sequences for s in q.steps}
        }
        self.out.gone = names | constants | {n for n in self.dropped if n not in read}
        self.out.sequences = [self._without_flags(q) for q in self.out.sequences]
        return self.out

    def _without_flags(self, q: Sequence) -> Sequence:
        """A sequence without marks of variables that nobody needs any more."""
        steps = tuple(
            replace(s, actions=tuple(a for a in s.actions if a.target.lower() not in self.out.gone)) for s in q.steps
        )
        return replace(q, steps=steps)

    # -- one machine

    def _machine(self, m: Machine) -> None:
        last, flags = "", set[str]()
        around, branches = list(self.found.around), dict(m.branches)
        if self.choices.pulses:
            last = last_of(Flow(m, around, self.constants, False))
            if last:
                flags = entry_flags(m, last, around)
                self.dropped |= flags
                entry = with_entry(m, last, flags)
                around, branches = [entry(s) for s in around], {n: tuple(map(entry, b)) for n, b in branches.items()}
        plain = replace(m, branches=branches)
        hold = self.choices.hold and not is_true(m.guard) and not any(self._moves_held(m, s) for s in around)
        if hold:
            around = [_without_guard(s, m) for s in around]
        flow = Flow(plain, around, {**self.constants, **self._between(m)}, hold)
        followers = self._followers(flow)
        for f in followers:
            if not f.late:
                for n, on in f.on.items():
                    flow.special.setdefault(n, {})[f.name] = sx.Literal(on, Type.BOOL, NOWHERE)
        marked = self._marked(followers)
        gone = {f.name for f in marked} | {m.next} | flags | ({last} if last else set())
        gone |= self._clocks(m, flow, followers, gone)
        self.dropped |= {last} if last else set()
        self._sequence(plain, flow, marked, gone, around, last)
        for i, s in enumerate(around):
            rest = self.around[i]
            if rest is not None:
                base = s if rest is self.found.around[i] else rest
                left = stripped(base, gone)
                self.around[i] = left if left is None or base is not s or not hold else stripped(rest, gone)

    def _between(self, m: Machine) -> Known:
        """What variables stand for in the branches of a machine that are set once, between those of another one and its own: they
        would be known only behind both sequences.
        """
        first = min(o.at for o in self.found.machines)
        everything = (*self.found.around, *(s for o in self.found.machines for s in o.inside))
        often = Counter(str(s.target).lower() for s in sx.every_statement(everything) if isinstance(s, sx.Assign))
        known: dict[str, sx.Expression] = {}
        for i, s in enumerate(self.found.around[: m.at]):
            bare = _without_guard(s, m)
            if i < first or not isinstance(bare, sx.Assign) or not isinstance(bare.target, sx.Name):
                continue
            name, value = str(bare.target).lower(), folded(bare.value, known)
            read = set(names_in(value))
            changing = written_by((*self.found.around[i + 1 : m.at], *m.inside))
            later = {n for o in self.found.machines if o.at > i for n in (o.var, o.next)}
            if often[name] == 1 and name not in read and not read & (changing | later):
                known[name] = value
        return known

    def _moves_held(self, m: Machine, s: sx.Statement) -> bool:
        """Whether a statement beside the branches can set the state while their condition does not hold: a hold would keep it."""
        return sets(s, m.next) and _without_guard(s, m) is s

    def _clocks(self, m: Machine, flow: Flow, followers: list[Follower], gone: set[str]) -> set[str]:
        """Timers and edge blocks that are step times and edges, with the flags that only start them; put into `flow`."""
        if not (self.choices.times or self.choices.edges):
            return set()
        timing = {f.name: set(f.states(True)) for f in followers if not f.late}
        plain = Flow(m, self.found.around, self.constants, False)
        written = written_by(m.inside)
        wanted = (self.choices.times, self.choices.edges)
        clocks = take_clocks(
            plain, self.instances, self.signals, self.period_ms, written, timing, wanted, bool(self.found.first)
        )
        for n, known in plain.special.items():
            flow.special.setdefault(n, {}).update(known)
        for ends, known in plain.behind.items():
            flow.behind.setdefault(ends, {}).update(known)
        for low, call in clocks.moved.items():
            self.moved.append(call)
            gone.add(low)
        told = [Note(span.line, text) for span, text in clocks.notes]
        self.out.notes += [n for n in told if n not in self.out.notes]  # each machine finds them anew
        calls = [s for s in self.found.around if isinstance(s, sx.BlockCall)]
        starting = {n for s in calls if str(s.instance).lower() in clocks.dropped for n in read_by((s,)) if n in timing}
        left = [x for s in self.found.around if (x := stripped(s, gone | clocks.dropped)) is not None]
        needed = {p for n in read_by(tuple(left)) for p in _prefixes(n)}
        self.dropped |= (clocks.dropped | starting) - needed
        return clocks.dropped - needed

    def _followers(self, flow: Flow) -> list[Follower]:
        """The variables that follow the state."""
        if not self.choices.marks:
            return []
        m = flow.m
        start = int(self.signals[m.var].start)
        inside = written_by(m.inside)
        outside = written_by(tuple(s for s in flow.around if read_by((s,)) & {m.var, m.next} or sets(s, m.next)))
        found = []
        for low in sorted((inside | outside) - self.choices.apart):
            s = self.signals.get(low)
            if s is None or s.type is not Type.BOOL or s.cls not in (SignalClass.OUTPUT, SignalClass.INTERNAL):
                continue
            if any(low in written_by(o.inside) for o in self.found.machines if o.next != m.next):
                continue
            f = follower(flow, low, bool(s.start), start)
            if f is not None and any(f.on.values()):
                found.append(f)
        return found

    def _marked(self, followers: list[Follower]) -> list[Follower]:
        """Those that become marks. One that comes late does only where all outputs do: then they are all one scan earlier."""
        outputs = {low for low, s in self.signals.items() if s.cls is SignalClass.OUTPUT}
        texts = tuple(s for m in self.found.machines for s in m.inside) + tuple(self.found.around)
        driven = outputs & written_by(texts)
        early = self.choices.early and driven <= {f.name for f in followers if f.early}
        if early:
            return [f for f in followers if f.early or (not f.late and f.name not in outputs)]
        exact = [replace(f, exact=True) for f in followers if f.marks] if self.choices.delays else []
        return sorted([*(f for f in followers if not f.late), *exact], key=lambda f: f.name)

    # -- the sequence

    def _sequence(
        self, m: Machine, flow: Flow, marked: list[Follower], gone: set[str], around: list[sx.Statement], last: str
    ) -> None:
        bodies: list[Body] = []
        moves = {n: flow.moves(n) for n in m.branches}
        if flow.passes and (through := [m.states[n].name for n in m.branches if flow.goes_on(n)]):
            self.out.notes.append(
                Note(
                    m.span.line,
                    f"in this row of IF a scan that leaves {several(through)} may go on through the next at once: such ways are asked for first",
                )
            )
        preds: dict[int, set[int]] = {n: set() for n in m.branches}
        for n, ways in moves.items():
            for x in ways:
                preds[x.target].add(n)
        start = int(self.signals[m.var].start)
        shared = self._around_bodies(m, around, gone, last) if self.choices.stay else {}
        for s in self.found.around:
            if sets(s, m.next):
                ends = sorted(
                    {
                        x.target
                        for ways in moves.values()
                        for x in ways
                        if x.span.line >= s.span.line and x.span.start >= s.span.start and x.span.end <= s.span.end
                    }
                )
                names = several(m.states[n].name for n in ends)
                self.out.notes.append(
                    Note(s.span.line, f"leads to {names or 'no other state'}, from every state that it concerns")
                )
        steps, transitions = list[Step](), list[Transition]()
        for n, state in m.states.items():
            actions = [a for f in marked for a in self._marks(f, n, preds, start)]
            actions += self._bodies(m, flow, n, moves[n], gone, bodies)
            for qualifier, block in shared.get(n, []):
                actions.append(self._body(m, n, qualifier, block, bodies))
            line = state.span.line if state.span.end else m.span.line
            self.out.notes.append(Note(line, f"state {n} is step {state.name}"))
            self.out.spots.append(("step", m.name, state.name, -1, state.span))
            steps.append(Step(state.name, n, tuple(actions), comment=state.comment))
            for k, x in enumerate(moves[n]):
                self.out.spots.append(("transition", m.name, "", len(transitions), x.span))
                text = expression_text(self.spoken.tree(x.condition, m))
                to = m.states[x.target].name
                transitions.append(Transition((state.name,), (to,), text, k + 1 if len(moves[n]) > 1 else None))
        hold = ""
        if flow.hold:
            hold = expression_text(self.spoken.tree(negated(m.guard)))
            self.out.notes.append(Note(m.span.line, f"{m.name} is held while {hold}"))
        self.out.sequences.append(
            Sequence(m.name, m.states[start].name, tuple(steps), tuple(transitions), tuple(bodies), hold_when=hold)
        )
        for f in marked:
            on = several(m.states[n].name for n in f.states(True))
            self.out.notes.append(
                Note(
                    m.span.line,
                    f"{self.signals[f.name].name} follows the state{' a scan behind it' * f.exact}: on in {on}"
                    + ", one scan earlier than in the text" * (f.late and not f.exact),
                )
            )

    def _marks(self, f: Follower, n: int, preds: dict[int, set[int]], start: int) -> list[Action]:
        """The marks of a variable in a state: those that are exact, else the one that is usual."""
        if not f.exact:
            usual = self._mark(f, n, preds, start)
            return [] if usual is None else [usual]
        name = self.signals[f.name].name
        return [Action(Q(word), name, ONE_SCAN if Q(word).timed else "") for word in f.marks[n]]

    def _mark(self, f: Follower, n: int, preds: dict[int, set[int]], start: int) -> Action | None:
        """The mark of a variable in a state: N, or S where it comes on and R where it goes off for one that is latched."""
        name, on = self.signals[f.name].name, f.on.get(n, False)
        if not f.latched or len(f.states(True)) < 2:
            return Action(Q.N, name) if on else None
        edges = sum(self._turns(f, x, preds, start) for x in preds)
        if len(f.states(True)) <= edges:
            return Action(Q.N, name) if on else None
        came = {f.on.get(p, False) for p in preds[n]}
        if on and (False in came or n == start):
            return Action(Q.S, name)
        return Action(Q.R, name) if not on and True in came else None

    def _turns(self, f: Follower, n: int, preds: dict[int, set[int]], start: int) -> bool:
        """Whether a variable comes on or goes off where a state is entered."""
        on = f.on.get(n, False)
        return any(f.on.get(p, False) is not on for p in preds[n]) or (on and n == start)

    # -- logic

    def _logic(self) -> None:
        """What is left around the branches, above and below the sequences."""
        opening, closing = list[str](), list[str]()
        first, last = min(m.at for m in self.found.machines), max(m.at for m in self.found.machines)
        later = set[str]()
        states = {n for m in self.found.machines for n in (m.var, m.next)}
        for i, s in enumerate(self.around):
            if s is None:
                continue
            called = str(s.instance).lower() if isinstance(s, sx.BlockCall) else ""
            if called in self.dropped and called not in self._read(
                i
            ):  # all that is left is read again only for such a call
                continue
            old = any(m.side(i) is Side.BETWEEN for m in self.found.machines) and bool(read_by((s,)) & states)
            above = i < first or old or (i < last and self._stands_free(i, s, later))
            if not above:
                later |= written_by((s,))
            (opening if above else closing).append(self._text(i, s))
            line = self.found.around[i].span.line
            self.out.notes.append(Note(line, f"stays, as {'opening' if above else 'closing'} logic"))
        opening += [statements_text((self.spoken.statement(s),)) for s in self.moved] + self.logic
        if not self.choices.first and (opening or closing):
            started = free_name(f"{self.found.machines[0].name}_Started", self.taken)
            self.out.more.append(Signal(started, SignalClass.INTERNAL))
            opening, closing = ([f"IF {started} THEN", *x, "END_IF;"] if x else [] for x in (opening, closing))
            closing.append(f"{started} := TRUE;")
        self.out.opening, self.out.closing = "\n".join(opening), "\n".join(closing)

    def _stands_free(self, i: int, s: sx.Statement, later: set[str]) -> bool:
        """Whether a statement above one machine and below others has nothing to do with those, nor with what stays below them."""
        before = [m for m in self.found.machines if m.at <= i]
        theirs = {n for m in before for n in (m.var, m.next, *written_by(m.inside))} | later
        mine = {p for n in read_by((s,)) | written_by((s,)) for p in _prefixes(n)}
        return not mine & theirs

    def _text(self, i: int, s: sx.Statement) -> str:
        """A statement as it stands in the file where nothing in it changes, else printed."""
        spoken = self.spoken.statement(s)
        if s is self.found.around[i] and spoken is s and s.span.end > s.span.start:
            return self.text[s.span.start : s.span.end].rstrip(";") + ";"
        return statements_text((spoken,))

    def _read(self, without: int = -1) -> set[str]:
        """Names that the sequences and what is left around them read; of a call of a dropped block only if something else
        reads the block.
        """
        out: set[str] = set()
        for q in self.out.sequences:
            for condition in [*(t.condition for t in q.transitions), *filter(None, [q.hold_when])]:
                out |= {p for n in names_in(parse_expression(condition)) for p in _prefixes(n)}
            for b in q.bodies:
                out |= {p for n in read_by(parse_statements(b.text)) for p in _prefixes(n)}
        for text in self.logic:
            out |= {p for n in read_by(parse_statements(text)) for p in _prefixes(n)}
        for i, s in enumerate(self.around):
            if s is not None and i != without:
                called = {str(s.instance).lower()} if isinstance(s, sx.BlockCall) else set()
                drop = called & self.dropped
                out |= {p for n in read_by((s,)) if n not in drop for p in _prefixes(n)}
        return out


def _without_guard(s: sx.Statement, m: Machine) -> sx.Statement:
    """A statement that stands under the condition of the branches, without it: what a hold keeps needs none."""
    if isinstance(s, sx.If) and len(s.branches) == 1 and not s.otherwise and same(s.branches[0][0], m.guard):
        inner = s.branches[0][1]
        return inner[0] if len(inner) == 1 else s
    return s


def _prefixes(name: str) -> set[str]:
    return {name, name.split(".")[0]}
