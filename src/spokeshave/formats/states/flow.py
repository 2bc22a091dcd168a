"""Every path through one scan of a state program: which state comes next under which condition, what is set on the way."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from spokeshave.formats.states.find import Block, Machine, Side
from spokeshave.formats.states.fold import (
    ENTRY,
    TRUE,
    Asked,
    Known,
    as_ifs,
    both,
    contradict,
    flag,
    folded,
    is_false,
    is_true,
    negated,
    same,
    tidy,
    value_of,
    written_by,
)
from spokeshave.language import syntax as sx
from spokeshave.language.printer import expression_text
from spokeshave.language.terms import terms
from spokeshave.model.project import Type

MOST_PASSING = 16
"""States of a row of IF of which it is followed which pass in one scan."""
MOST_PASSED = 60
"""Ways out of a state through others in the same scan; where there are more, nobody could read them."""
MOST_PATHS = 4096
"""Paths through one scan from one state that are followed."""


@dataclass(frozen=True, slots=True)
class Move:
    """Where a state leads to under a condition; to itself where it stays."""

    condition: sx.Expression
    target: int
    span: sx.Span


def sets(s: sx.Statement, name: str) -> bool:
    """Whether a statement, or one in it, assigns a variable."""
    return name in written_by((s,))


def surely_sets(block: Block, name: str) -> bool:
    """Whether every path through some statements assigns a variable."""
    for s in block:
        if isinstance(s, sx.Assign) and str(s.target).lower() == name:
            return True
        if isinstance(s, sx.If) and all(surely_sets(b, name) for b in (*(b for _, b in s.branches), s.otherwise)):
            return True
    return False


def _on_from(x: Move, then: list[Move]) -> list[Move]:
    """The moves of a scan that has made one and makes another behind it, without those that cannot both be."""
    return [
        Move(both(x.condition, y.condition), y.target, y.span) for y in then if not contradict(x.condition, y.condition)
    ]


class Flow:
    """The moves of a machine. `known(n)` gives what is known in state `n`: constants, timers that are step times."""

    def __init__(self, m: Machine, around: list[sx.Statement], constants: Known, hold: bool) -> None:
        self.m, self.constants, self.hold = m, constants, hold
        self.around = around
        self.passes = m.passes and len(m.branches) <= MOST_PASSING
        """Whether what a scan passes in a row of IF is followed."""
        self.taking = [s for i, s in enumerate(around) if m.side(i) is Side.ABOVE and sets(s, m.next)]
        """Statements above the branches that set the state."""
        self.special: dict[int, dict[str, sx.Expression]] = {}
        """What stands for a name in the conditions of one state."""
        self.behind: dict[tuple[int, int], dict[str, sx.Expression]] = {}
        """What stands for it behind the branches, by the state before the scan and the one there."""

    def known(self, old: int, new: int) -> dict[str, sx.Expression]:
        return {**self.constants, **self.special.get(old, {}), **self.m.known(old, new)}

    # -- moves

    def moves(self, n: int) -> list[Move]:
        """What comes behind state `n`, the move that wins first; without those that lead nowhere else."""
        found = self._with_those_above(n)
        for i, s in enumerate(self.around):
            if self.m.side(i) is not Side.ABOVE and sets(s, self.m.next):
                found = self._with_one_below(n, found, s)
        return _cleaned(found, n)

    def own(self, n: int) -> list[Move]:
        """The moves of the branch of a state, and in a row of IF of those that it leads to further down."""
        if not self.passes:
            return self._own(n)
        places = {state: i for i, state in enumerate(self.m.branches)}
        return self._passing(n, places, {})

    def _passing(self, n: int, places: dict[int, int], known: dict[int, list[Move]]) -> list[Move]:
        """The moves of the branch of a state, each behind those that go on from where it leads; `known` are those of other states."""
        if n not in known:
            out: list[Move] = []
            for x in self._own(n):
                if places.get(x.target, -1) > places[n]:
                    out += _on_from(x, self._passing(x.target, places, known))
                out.append(x)
            known[n] = out if len(out) <= MOST_PASSED else self._own(n)
        return known[n]

    def goes_on(self, n: int) -> bool:
        """Whether a scan that leaves a state may leave the next one too."""
        return self.passes and len(self.own(n)) > len(self._own(n))

    def _own(self, n: int) -> list[Move]:
        """The moves of the branch of a state alone."""
        block, m = self.m.branches[n], self.m
        env = self.known(n, n)
        found = self._walk(block, TRUE, env, n, surely_sets(block, m.next))
        guard = folded(m.guard, env)
        if is_true(guard) or self.hold:
            return found
        return [replace(x, condition=both(guard, x.condition)) for x in found]

    def above(self, n: int) -> list[Move]:
        """The moves that statements above the branches make in state `n`: the branch of another state runs then, or that of `n`
        itself.
        """
        found: list[Move] = []
        for s in self.taking:
            found[:0] = self._walk((s,), TRUE, self.known(n, n), n, True)
        return found

    def _with_those_above(self, n: int) -> list[Move]:
        out: list[Move] = []
        for x in self.above(n):
            out += _on_from(x, self.own(x.target))
            out.append(x)
        return out + self.own(n)

    def _with_one_below(self, n: int, found: list[Move], s: sx.Statement) -> list[Move]:
        """The moves of a scan with a statement behind the branches that sets the state too."""
        ends = [*found, Move(TRUE, n, s.span)]
        there = {}
        for x in ends:
            known = {**self.known(n, x.target), **self.behind.get((n, x.target), {})}
            there[x.target] = self._walk((s,), TRUE, known, x.target, True)
        texts = {tuple((expression_text(y.condition), y.target) for y in ys) for ys in there.values()}
        if len(texts) == 1:
            return [*there[n], *found]
        out: list[Move] = []
        for x in ends:
            out += _on_from(x, there[x.target])
            if x is not ends[-1]:
                out.append(x)
        return out

    def _walk(
        self, block: Block, around: sx.Expression, env: dict[str, sx.Expression], n: int, follow: bool
    ) -> list[Move]:
        """The moves of some statements in state `n` under a condition. Where `follow`, a condition that reads what was assigned
        before it sees the new value.
        """
        found: list[Move] = []
        env = dict(env)
        for s in block:
            if isinstance(s, sx.Case) and sets(s, self.m.next):
                s = as_ifs(s) or s
            if isinstance(s, sx.Assign) and str(s.target).lower() == self.m.next:
                value = value_of(folded(s.value, env))
                found.insert(0, Move(around, n if value is None else int(value), s.span))
            elif isinstance(s, sx.If) and sets(s, self.m.next):
                found[:0] = self._walk_if(s, around, env, n)
            elif follow and isinstance(s, sx.Assign):
                env[str(s.target).lower()] = folded(s.value, env)
            else:
                for name in written_by((s,)):
                    env.pop(name, None)
        return found

    def _walk_if(self, s: sx.If, around: sx.Expression, env: dict[str, sx.Expression], n: int) -> list[Move]:
        found: list[Move] = []
        for condition, block in s.branches:
            test = folded(condition, env)
            here = both(around, test)
            if is_false(here):
                continue
            found += self._walk(block, here, env, n, True)
            if is_true(test):
                return found
            if not surely_sets(block, self.m.next):
                around = both(around, negated(test))
        return found + self._walk(s.otherwise, around, env, n, True)

    # -- paths

    def ends(self, n: int, name: str) -> list[tuple[int, bool | None]] | None:
        """How a scan that begins in state `n` can end: the state then, and TRUE, FALSE, or None for a variable that kept its
        value. None if the variable can become anything else, or there are too many paths.
        """
        m = self.m
        outer = [(i, s) for i, s in enumerate(self.around) if sets(s, name) or sets(s, m.next)]
        above = tuple(s for i, s in outer if m.side(i) is Side.ABOVE)
        below = tuple(s for i, s in outer if m.side(i) is not Side.ABOVE)
        between = {id(s) for i, s in outer if m.side(i) is Side.BETWEEN}
        paths = [_Path(n, n, Asked(), None)]
        try:
            paths = self._through(above, paths, name, frozenset())
            ends: list[_Path] = []
            for state in m.branches if self.passes else dict.fromkeys(p.new for p in paths):
                mine = [replace(p, old=state) for p in paths if p.new == state]
                paths = [p for p in paths if p.new != state]
                inside = tuple(s for s in m.branches[state] if sets(s, name) or sets(s, m.next))
                came = self._through(inside, mine, name, frozenset())
                paths, ends = (paths + came, ends) if self.passes else (paths, ends + came)
            paths = [replace(p, begun=n) for p in paths + ends]
            paths = self._through(below, paths, name, frozenset(between))
        except _Other:
            return None
        return list(dict.fromkeys((p.new, p.value) for p in paths))

    def _through(self, block: Block, paths: list[_Path], name: str, between: frozenset[int]) -> list[_Path]:
        for s in block:
            if not (sets(s, name) or sets(s, self.m.next)):
                continue
            paths = [q for p in paths for q in self._one(s, p, name, between)]
            if len(paths) > MOST_PATHS:
                raise _Other
        return paths

    def _one(self, s: sx.Statement, p: _Path, name: str, between: frozenset[int]) -> Iterator[_Path]:
        known = self.known(p.old if id(s) in between else p.new, p.new)
        if p.begun >= 0:
            known[str(ENTRY).lower()] = flag(p.begun != p.new)
        if p.value is not None:
            known[name] = sx.Literal(p.value, Type.BOOL, s.span)
        if isinstance(s, sx.Case):
            s = as_ifs(s) or s
        if isinstance(s, sx.Assign):
            value = value_of(folded(s.value, known))
            if str(s.target).lower() == self.m.next:
                yield p if not isinstance(value, int) or value not in self.m.branches else replace(p, new=value)
                return
            if not isinstance(value, bool):
                raise _Other
            yield replace(p, value=value)
            return
        if not isinstance(s, sx.If):
            raise _Other
        rest = p.condition
        for condition, block in s.branches:
            test = folded(condition, known)
            if not is_false(test) and not rest.denies(test):
                yield from self._through(block, [replace(p, condition=rest.also(test))], name, between)
            if is_true(test):
                return
            rest = rest.also(negated(test))
        yield from self._through(s.otherwise, [replace(p, condition=rest)], name, between)


class _Other(Exception):
    """A variable that becomes neither TRUE nor FALSE by the state."""


@dataclass(frozen=True, slots=True)
class _Path:
    """A way through a scan up to here: the state before the branches and now, under which condition, and the variable."""

    old: int
    new: int
    condition: Asked
    value: bool | None
    begun: int = -1
    """Behind the branches, the state in which the scan began: in another one it is the first scan of that."""


def _cleaned(moves: list[Move], n: int) -> list[Move]:
    """Without moves that cannot be made: behind one that always is, or under the condition of an earlier one. Where a path
    stays in the state, those behind it are not made under its condition.
    """
    out: list[Move] = []
    stays: list[sx.Expression] = []
    seen: list[sx.Expression] = []
    for x in moves:
        if is_false(x.condition) or any(same(x.condition, c) for c in seen):
            continue
        seen.append(x.condition)
        if x.target == n:
            if is_true(x.condition):
                break
            stays.append(x.condition)
            continue
        condition = x.condition
        for stay in stays:
            if not contradict(stay, condition):
                condition = both(condition, negated(_beside(stay, condition)))
        out.append(replace(x, condition=condition))
        if is_true(condition):
            break
    return out


def _beside(stay: sx.Expression, condition: sx.Expression) -> sx.Expression:
    """What a condition asks beside what the other one asks already."""
    left = [t for t in terms(stay) if not any(same(t, c) for c in terms(condition))]
    out: sx.Expression = TRUE
    for t in left:
        out = both(out, t)
    return out


def part(block: Block, name: str, leaving: bool) -> Block:
    """The statements that run where the state is set, or all others."""
    rest: list[sx.Statement] = []
    for s in block:
        if isinstance(s, sx.Case) and sets(s, name):
            s = as_ifs(s) or s
        if isinstance(s, sx.If) and sets(s, name):
            branches = tuple((c, part(b, name, leaving)) for c, b in s.branches)
            otherwise = part(s.otherwise, name, leaving)
            left = tidy(replace(s, branches=branches, otherwise=otherwise))
            rest += [left] if left is not None else []
        elif sets(s, name):
            continue
        elif leaving is surely_sets(block, name):
            rest.append(s)
    return tuple(rest)
