"""A state program as a sequence, in the form that its `Choices` allow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

from spokeshave.formats.states.clocks import entry_flags, last_of, take_clocks
from spokeshave.formats.states.find import Block, Found, Machine, Side
from spokeshave.formats.states.flow import Flow, Move, part, sets
from spokeshave.formats.states.fold import (
    NOWHERE,
    TRUE,
    Known,
    both,
    folded,
    folded_block,
    is_true,
    names_in,
    negated,
    read_by,
    same,
    stripped,
    terms,
    value_of,
    written_by,
)
from spokeshave.formats.states.outputs import Follower, follower
from spokeshave.formats.states.spoken import ENTRY, Spoken, mapped, with_entry
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.printer import expression_text, statements_text
from spokeshave.language.rename import name_problem
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


@dataclass(frozen=True, slots=True)
class Choices:
    """How a state program is put as a sequence: the nicest form first, each taken back where it is not what the text does."""

    marks: bool = True
    """Variables that follow the state become marks, else they are set by logic."""
    times: bool = True
    """Timers of states become step times, else they stay as instances."""
    edges: bool = True
    """Edge blocks and other timers become RISING, FALLING and HELD."""
    hold: bool = True
    """A condition around the branches holds the sequence, else it stands in every transition."""
    pulses: bool = True
    """What runs in the first scan of a state is a P1 block, else logic that knows the last state."""
    stay: bool = True
    """What a state does in every scan is a body of its step, else opening logic."""
    leave: bool = True
    """What is done on the way out is a body of its step, else opening logic."""
    first: bool = True
    """Opening and closing logic run in the first scan of all, in which the text does not count, else from the second on."""

    @property
    def losses(self) -> int:
        return sum(not getattr(self, name) for name in self.__slots__)


@dataclass(frozen=True, slots=True)
class Note:
    """What became of a part of the text, which begins at a line."""

    line: int
    text: str


@dataclass
class Lifted:
    """The sequences of a text and the logic around them. `gone` are names of signals and instances that nobody needs any more.

    `spots` are the kind, sequence, name, index and place in the text of what was made.
    """

    sequences: list[Sequence] = field(default_factory=list)
    opening: str = ""
    closing: str = ""
    more: list[Signal] = field(default_factory=list)
    gone: set[str] = field(default_factory=set)
    notes: list[Note] = field(default_factory=list)
    spots: list[tuple[str, str, str, int, sx.Span]] = field(default_factory=list)
    speaks: Callable[[str], str] = str
    """Puts a text that speaks of the states into the words of the sequences."""


class Lifter:
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
        hold = self.choices.hold and not is_true(m.guard)
        if hold:
            around = [_without_guard(s, m) for s in around]
        flow = Flow(plain, around, self.constants, hold)
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

    def _clocks(self, m: Machine, flow: Flow, followers: list[Follower], gone: set[str]) -> set[str]:
        """Timers and edge blocks that are step times and edges, with the flags that only start them; put into `flow`."""
        if not (self.choices.times or self.choices.edges):
            return set()
        timing = {f.name: set(f.states(True)) for f in followers if not f.late}
        plain = Flow(m, self.found.around, self.constants, False)
        written = written_by(tuple(s for b in m.branches.values() for s in b))
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
        self.out.notes += [Note(span.line, text) for span, text in clocks.notes]
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
        inside = written_by(tuple(s for b in m.branches.values() for s in b))
        outside = written_by(tuple(s for s in flow.around if read_by((s,)) & {m.var, m.next} or sets(s, m.next)))
        found = []
        for low in sorted(inside | outside):
            s = self.signals.get(low)
            if s is None or s.type is not Type.BOOL or s.cls not in (SignalClass.OUTPUT, SignalClass.INTERNAL):
                continue
            if any(
                low in written_by(tuple(x for b in o.branches.values() for x in b))
                for o in self.found.machines
                if o.next != m.next
            ):
                continue
            f = follower(flow, low, bool(s.start), start)
            if f is not None and any(f.on.values()):
                found.append(f)
        return found

    def _marked(self, followers: list[Follower]) -> list[Follower]:
        """Those that become marks. One that comes late does only where all outputs do: then they are all one scan earlier."""
        outputs = {low for low, s in self.signals.items() if s.cls is SignalClass.OUTPUT}
        texts = tuple(s for m in self.found.machines for b in m.branches.values() for s in b) + tuple(self.found.around)
        driven = outputs & written_by(texts)
        early = driven <= {f.name for f in followers if f.late}
        return [f for f in followers if f.late is early or (not f.late and f.name not in outputs)]

    # -- the sequence

    def _sequence(
        self, m: Machine, flow: Flow, marked: list[Follower], gone: set[str], around: list[sx.Statement], last: str
    ) -> None:
        bodies: list[Body] = []
        moves = {n: flow.moves(n) for n in m.branches}
        preds: dict[int, set[int]] = {n: set() for n in m.branches}
        for n, ways in moves.items():
            for x in ways:
                preds[x.target].add(n)
        start = int(self.signals[m.var].start)
        shared = self._around_bodies(m, around, gone, last) if self.choices.stay else {}
        steps, transitions = list[Step](), list[Transition]()
        for n, state in m.states.items():
            actions = [a for f in marked if (a := self._mark(f, n, preds, start)) is not None]
            actions += self._bodies(m, flow, n, moves[n], gone, bodies)
            for qualifier, block in shared.get(n, []):
                actions.append(self._body(m, n, qualifier, block, bodies))
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
            on = ", ".join(m.states[n].name for n in f.states(True))
            self.out.notes.append(
                Note(
                    m.span.line,
                    f"{self.signals[f.name].name} follows the state: on in {on}"
                    + ", one scan earlier than in the text" * f.late,
                )
            )

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

    # -- bodies

    def _bodies(
        self, m: Machine, flow: Flow, n: int, moves: list[Move], gone: set[str], bodies: list[Body]
    ) -> list[Action]:
        """What the branch of a state does beside marks and moves, as action blocks; else as opening logic."""
        keep = {k: v for k, v in flow.special.get(n, {}).items() if k.endswith(".q")}
        out: list[Action] = []
        logic: list[sx.Statement] = []
        for leaving in (False, True):
            block = tuple(x for s in part(m.branches[n], m.next, leaving) if (x := stripped(s, gone)) is not None)
            block = folded_block(block, {**self.constants_of(m), **keep, **m.known(n, n)})
            if not block:
                continue
            if not (self.choices.leave if leaving else self.choices.stay):
                logic += block
                continue
            if leaving:
                out.append(self._body(m, n, Q.P0, _bare(block, moves), bodies))
                continue
            pulse, rest = _entering(block)
            if pulse:
                out.append(self._body(m, n, Q.P1, pulse, bodies))
            if rest:
                out.append(self._body(m, n, Q.N, rest, bodies))
        if logic:
            name = f"{m.name}.{m.states[n].name}"
            whole = tuple(mapped(self.spoken.statement(s), _with_sequence(m)) for s in logic)
            text = statements_text(whole, "  ")
            test = f"{name}.X"
            if not is_true(m.guard):
                test += f" AND ({expression_text(self.spoken.tree(m.guard))})"
            self.logic.append(f"IF {test} THEN\n{text}\nEND_IF;")
            self.out.notes.append(
                Note(
                    logic[0].span.line,
                    f"what {m.states[n].name} does stands in opening logic, where it runs in the same scans as in the text",
                )
            )
        return out

    def constants_of(self, m: Machine) -> Known:
        """Constants that are labels: they go, so their numbers are put in."""
        labels = {s.name.lower() for s in m.states.values()}
        return {low: value for low, value in self.constants.items() if low in labels}

    def _body(self, m: Machine, n: int, qualifier: Qualifier, block: Block, bodies: list[Body]) -> Action:
        step = m.states[n].name
        wanted = self._said(block) or _body_name(block, qualifier, step)
        name = free_name(wanted, self.taken | {b.name.lower() for b in bodies})
        text = statements_text(tuple(self.spoken.statement(s, m) for s in block))
        bodies.append(Body(name, text))
        self.out.spots.append(("body", m.name, name, -1, block[0].span))
        when = {Q.P0: "when it is left", Q.P1: "when it is entered"}.get(qualifier, "while it is active")
        self.out.notes.append(Note(block[0].span.line, f"{name} runs in {step} {when}"))
        return Action(qualifier, name)

    def _said(self, block: Block) -> str:
        """The name that a comment gives to statements, behind the THEN before them."""
        before = self.text[: block[0].span.start].rstrip() if block[0].span.end else ""
        if not before.endswith("*)"):
            return ""
        opened = before.rfind("(*")
        name = before[opened + 2 : -2].strip()
        said = before[:opened].rstrip().upper().endswith("THEN") and not name_problem(name)
        return name if said else ""

    def _left_state(self, m: Machine, s: sx.Statement, last: str) -> tuple[int, Block] | None:
        """The state that is left where a statement acts, `Last = 20 AND State <> Last`, and what it does."""
        if not last or not isinstance(s, sx.If) or len(s.branches) != 1 or s.otherwise:
            return None
        condition, block = s.branches[0]
        rest: sx.Expression = TRUE
        n: int | None = None
        entry = False
        for term in terms(condition):
            value = (
                value_of(folded(term.right, self.constants)) if isinstance(term, sx.Binary) and term.op == "=" else None
            )
            if (
                isinstance(term, sx.Binary)
                and str(term.left).lower() == last
                and isinstance(value, int)
                and value in m.states
            ):
                n = value
            elif same(term, ENTRY):
                entry = True
            else:
                rest = both(rest, term)
        if n is None or not entry:
            return None
        return n, block if is_true(rest) else (replace(s, branches=((rest, block),)),)

    def _around_bodies(
        self, m: Machine, around: list[sx.Statement], gone: set[str], last: str
    ) -> dict[int, list[tuple[Qualifier, Block]]]:
        """Statements below the branches that do something in one state alone: bodies of its step."""
        out: dict[int, list[tuple[Qualifier, Block]]] = {}
        for i, s in enumerate(around):
            rest = stripped(s, gone)
            if rest is None or m.side(i) is not Side.BELOW or sets(s, m.next):
                continue
            if not read_by((rest,)) & {m.var, m.next, str(ENTRY).lower()}:
                continue
            if any(read_by((rest,)) & {o.var, o.next} for o in self.found.machines if o.next != m.next):
                continue
            if (gone_from := self._left_state(m, rest, last)) is not None:
                out.setdefault(gone_from[0], []).append((Q.P0, gone_from[1]))
                self.around[i] = None
                continue
            left = {n: folded_block((rest,), {**self.constants_of(m), **m.known(n, n)}) for n in m.branches}
            mine = [n for n, block in left.items() if block]
            if len(mine) != 1 or not isinstance(rest, sx.If):
                continue
            pulse, other = _entering(left[mine[0]])
            if pulse and other:
                continue
            out.setdefault(mine[0], []).append((Q.P1, pulse) if pulse else (Q.N, other))
            self.around[i] = None
        return out

    # -- logic

    def _logic(self) -> None:
        """What is left around the branches, above and below the sequences."""
        opening, closing = list[str](), list[str]()
        first = min(m.at for m in self.found.machines)
        states = {n for m in self.found.machines for n in (m.var, m.next)}
        for i, s in enumerate(self.around):
            if s is None:
                continue
            if isinstance(s, sx.BlockCall) and str(s.instance).lower() in self.dropped - self._read(i):
                continue
            old = any(m.side(i) is Side.BETWEEN for m in self.found.machines) and bool(read_by((s,)) & states)
            (opening if i < first or old else closing).append(self._text(i, s))
        opening += [statements_text((self.spoken.statement(s),)) for s in self.moved] + self.logic
        if not self.choices.first and (opening or closing):
            started = free_name(f"{self.found.machines[0].name}_Started", self.taken)
            self.out.more.append(Signal(started, SignalClass.INTERNAL))
            opening, closing = ([f"IF {started} THEN", *x, "END_IF;"] if x else [] for x in (opening, closing))
            closing.append(f"{started} := TRUE;")
        self.out.opening, self.out.closing = "\n".join(opening), "\n".join(closing)

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


def _with_sequence(m: Machine) -> Callable[[sx.Expression], sx.Expression]:
    """Puts the name of the sequence before those of its steps, for a text outside of it."""
    times = {(s.name, "T") for s in m.states.values()}

    def put(tree: sx.Expression) -> sx.Expression:
        match tree:
            case sx.Name() if tree.parts in times:
                return replace(tree, parts=(m.name, *tree.parts))
            case sx.Binary():
                return replace(tree, left=put(tree.left), right=put(tree.right))
            case sx.Unary():
                return replace(tree, operand=put(tree.operand))
        return tree

    return put


def _prefixes(name: str) -> set[str]:
    return {name, name.split(".")[0]}


def _bare(block: Block, moves: list[Move]) -> Block:
    """What is done on the way out, without the condition that every way out has."""
    if len(block) == 1 and isinstance(block[0], sx.If) and len(block[0].branches) == 1 and not block[0].otherwise:
        condition, inner = block[0].branches[0]
        asked = terms(condition)
        if moves and all(all(any(same(a, t) for t in terms(x.condition)) for a in asked) for x in moves):
            return _bare(inner, moves)
    return block


def _entering(block: Block) -> tuple[Block, Block]:
    """What runs in the first scan of a state, and the rest."""
    pulse: list[sx.Statement] = []
    rest: list[sx.Statement] = []
    for s in block:
        if (
            isinstance(s, sx.If)
            and len(s.branches) == 1
            and not s.otherwise
            and any(same(t, ENTRY) for t in terms(s.branches[0][0]))
        ):
            condition: sx.Expression = TRUE
            for term in terms(s.branches[0][0]):
                if not same(term, ENTRY):
                    condition = term if is_true(condition) else sx.Binary("AND", condition, term, NOWHERE)
            pulse += (
                s.branches[0][1] if is_true(condition) else (replace(s, branches=((condition, s.branches[0][1]),)),)
            )
        else:
            rest.append(s)
    return tuple(pulse), tuple(rest)


def _body_name(block: Block, qualifier: Qualifier, step: str) -> str:
    """A name that says what a body does, if that can be said in a word."""
    first = block[0]
    if len(block) == 1 or not isinstance(first, sx.Assign):
        counted = [s for s in block if isinstance(s, sx.Assign) and _counts(s)]
        if counted:
            return f"Count_{counted[0].target}"
        if len(block) == 1 and isinstance(first, sx.Assign):
            return (
                f"{'Clear' if isinstance(first.value, sx.Literal) and not first.value.value else 'Set'}_{first.target}"
            )
    elif _counts(first):
        return f"Count_{first.target}"
    return {Q.P0: f"Leave_{step}", Q.P1: f"Enter_{step}"}.get(qualifier, f"While_{step}")


def _counts(s: sx.Assign) -> bool:
    return isinstance(s.value, sx.Binary) and s.value.op == "+" and same(s.value.left, s.target)
