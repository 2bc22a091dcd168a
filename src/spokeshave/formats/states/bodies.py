"""What states do beside marks and moves, as bodies of their steps."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace

from spokeshave.formats.states.choices import Choices, Lifted, Note
from spokeshave.formats.states.find import Block, Found, Machine, Side
from spokeshave.formats.states.flow import Flow, Move, part, sets
from spokeshave.formats.states.fold import (
    ENTRY,
    NOWHERE,
    TRUE,
    Known,
    both,
    contradict,
    either,
    folded,
    folded_block,
    is_true,
    negated,
    read_by,
    same,
    stripped,
    value_of,
    written_by,
)
from spokeshave.formats.states.spoken import Spoken, mapped
from spokeshave.language import syntax as sx
from spokeshave.language.printer import expression_text, statements_text
from spokeshave.language.rename import name_problem
from spokeshave.language.terms import terms
from spokeshave.model.edits import free_name
from spokeshave.model.project import (
    Action,
    Body,
    Qualifier,
)

Q = Qualifier


class BodyMaker:
    """Makes action blocks of statements; `around` is what is left of those beside the branches, `logic` what no body can do."""

    found: Found
    text: str
    constants: Known
    choices: Choices
    taken: set[str]
    spoken: Spoken
    out: Lifted
    around: list[sx.Statement | None]
    logic: list[str]
    labels: dict[str, Known]
    """The constants that are labels, by machine."""

    def _bodies(
        self, m: Machine, flow: Flow, n: int, moves: list[Move], gone: set[str], bodies: list[Body]
    ) -> list[Action]:
        """What the branch of a state does beside marks and moves, as action blocks; else as opening logic."""
        keep = {k: v for k, v in flow.special.get(n, {}).items() if k.endswith(".q") or " " in k}
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
            logic += (s for s in block if written_by((s,)) & self.choices.apart)
            block = tuple(s for s in block if not written_by((s,)) & self.choices.apart)
            if not block:
                continue
            if leaving:
                away = [x for x in flow.above(n) if x.target != n]
                others = {x.span for x in away}
                block = _bare(block, [x for x in moves if x.span not in others])
                if away:  # the branch does not run in the scan in which its state is taken away above it
                    not_away = negated(_any(away))
                    block = (sx.If(((not_away, block),), (), block[0].span),)
                out.append(self._body(m, n, Q.P0, block, bodies))
                continue
            pulse, rest = _entering(block)
            if pulse:
                out.append(self._body(m, n, Q.P1, pulse, bodies))
            if rest:
                out.append(self._body(m, n, Q.N, rest, bodies))
        if logic:
            whole = tuple(mapped(self.spoken.statement(s), _with_sequence(m)) for s in logic)
            text = statements_text(whole, "  ")
            test = self._branch_runs(m, flow, n)
            if not is_true(m.guard):
                test = f"({test})" if " OR " in test else test
                guard = self._said_as(m.guard)
                test += f" AND ({guard})" if not test.endswith(f" AND {guard}") else ""
            self.logic.append(f"IF {test} THEN\n{text}\nEND_IF;")
            self.out.notes.append(
                Note(
                    logic[0].span.line,
                    f"what {m.states[n].name} does stands in opening logic, where it runs in the same scans as in the text",
                )
            )
        return out

    def _branch_runs(self, m: Machine, flow: Flow, n: int) -> str:
        """When the branch of a state runs, in the words of the model: in its state, unless statements above take it away; in other
        states if they lead to it.
        """
        away = [x for x in flow.above(n) if x.target != n]
        parts = [f"{m.name}.{m.states[n].name}.X"]
        if away:
            kept = negated(_any(away))
            weak = isinstance(kept, sx.Binary) and kept.op in ("OR", "XOR")
            parts = [f"{parts[0]} AND {f'({self._said_as(kept)})' if weak else self._said_as(kept)}"]
        others = [k for k in m.branches if k != n] if flow.taking else []
        to = {k: led for k in others if (led := _led(flow.above(k), n)) is not None}
        said = {k: self._said_as(led) for k, led in to.items()}
        if said and len(said) == len(m.branches) - 1 and len(set(said.values())) == 1:
            parts.append(next(iter(said.values())))  # from wherever it is
        else:
            parts += [f"{m.name}.{m.states[k].name}.X AND ({text})" for k, text in said.items()]
        return " OR ".join(parts)

    def _said_as(self, tree: sx.Expression) -> str:
        return expression_text(self.spoken.tree(tree))

    def constants_of(self, m: Machine) -> Known:
        """Constants that are labels: they go, so their numbers are put in."""
        found = self.labels.get(m.name)
        if found is None:
            names = {s.name.lower() for s in m.states.values()}
            found = self.labels[m.name] = {low: value for low, value in self.constants.items() if low in names}
        return found

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
            if written_by((rest,)) & self.choices.apart:
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


def _any(moves: list[Move]) -> sx.Expression:
    """The condition of one of some moves."""
    out = moves[0].condition
    for x in moves[1:]:
        if not same(x.condition, out):
            out = sx.Binary("OR", out, x.condition, NOWHERE)
    return out


def _led(moves: list[Move], n: int) -> sx.Expression | None:
    """When some moves, of which the first that is open wins, lead to a state; None where none does."""
    out: sx.Expression | None = None
    wins: list[Move] = []
    for x in moves:
        if x.target != n:
            wins.append(x)
            continue
        against = [w for w in wins if not contradict(w.condition, x.condition)]
        one = both(x.condition, negated(_any(against))) if against else x.condition
        out = one if out is None else either(out, one)
    return out


def _with_sequence(m: Machine) -> Callable[[sx.Expression], sx.Expression]:
    """Puts the name of the sequence before those of its steps, for a text outside of it."""

    def put(tree: sx.Expression) -> sx.Expression:
        match tree:
            case sx.Name(parts=(step, "T")) if step in m.steps:
                return replace(tree, parts=(m.name, *tree.parts))
            case _:
                return sx.with_parts(tree, put)

    return put


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
            return _counting(counted[0].target)
        if len(block) == 1 and isinstance(first, sx.Assign):
            return f"{'Clear' if isinstance(first.value, sx.Literal) and not first.value.value else 'Set'}_{_word(first.target)}"
    elif _counts(first):
        return _counting(first.target)
    return {Q.P0: f"Leave_{step}", Q.P1: f"Enter_{step}"}.get(qualifier, f"While_{step}")


def _counts(s: sx.Assign) -> bool:
    return isinstance(s.value, sx.Binary) and s.value.op == "+" and same(s.value.left, s.target)


def _counting(target: sx.Target) -> str:
    return f"{_word(target)}_Up" if "count" in str(target).lower() else f"Count_{_word(target)}"


def _word(target: sx.Target) -> str:
    """A variable as a part of a name: of an instance, of a table too."""
    return "_".join(re.findall(r"[A-Za-z0-9]+", str(target)))
