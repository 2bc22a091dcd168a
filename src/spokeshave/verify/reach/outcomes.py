"""What can be chosen in a scan, as far as it makes a difference: outcomes of guards, not values of inputs.

Situations with the same active steps look at the same guards. What is chosen falls into clusters that no guard looks at
together; in each cluster every choice is tried once for every value of the variables its guards read, and of those with
the same outcomes one is kept. The ways to go on are the products of the clusters.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property, partial
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.engine.program import LinkedSequence
from spokeshave.language import checked as ck
from spokeshave.verify.reach.studied import Studied, StudyError
from spokeshave.verify.reach.tried import Pool, Tried
from spokeshave.verify.reach.vector_scan import Choice, Columns, stored_blocks
from spokeshave.verify.reach.vectorized import Env, evaluate, reads_of, run, slots_of, writes_of

MOST_FIRST = 64
"""So many values of what is chosen first are tried at most."""

LARGE = 32
"""Choices of a cluster for which it is worth while to take it apart."""

KEEP = object()
"""In the place of a value: the one that is there."""


@dataclass(frozen=True, eq=False)
class Guard:
    """What is looked at: `values(env)` gives columns whose values tell outcomes apart; `must` that they have to be TRUE.

    `reads` are slots; what can be chosen follows from them. `either` are slots that may change before it is evaluated,
    with the values they may then have. Two are the same only if they are one.
    """

    values: Callable[[Env], list[Any]]
    reads: frozenset[int]
    must: bool = False
    passes: tuple[Choice, ...] = ()
    either: tuple[tuple[int, tuple[Any, ...]], ...] = ()
    owner: Any = None
    """The sequence it belongs to, or something else that looks: guards of one owner are not taken apart."""


@dataclass(frozen=True, slots=True)
class Plan:
    """What is chosen: first what several clusters look at, if there is any, then each cluster by itself."""

    first: Tried | None
    clusters: tuple[Tried, ...]


@dataclass
class Cluster:
    """Guards that have choices in common, with all their choices."""

    choices: list[Choice] = field(default_factory=list)
    guards: list[Guard] = field(default_factory=list)


class Outcomes:
    """The ways to go on from situations, for one program."""

    def __init__(self, studied: Studied, cells: tuple[Choice, ...]) -> None:
        """`cells` are what a situation consists of."""
        self.studied, self.program, self.cells = studied, studied.program, cells
        self._steps = {x.t: (q.index, x.index) for q in self.program.sequences for x in q.steps}
        self._flags = {x.x: (q.index, x.index) for q in self.program.sequences for x in q.steps}
        self._states = {q.state: q for q in self.program.sequences}
        self.pool = Pool()
        self._plans: dict[tuple[frozenset[tuple[int, int]], bool], Plan] = {}
        """What is chosen, by the active steps and whether a trip stands."""
        self._tried: dict[Any, Tried] = {}
        """What was tried already, by what is looked at and what is chosen: many situations have the same clusters."""
        self._choices: dict[Guard, tuple[frozenset[Choice], list[tuple[int, int]]]] = {}
        self._apart: frozenset[Choice] = frozenset()
        """What was chosen first somewhere, to take a cluster apart."""
        self.deciding: set[Guard] = set()
        """What says whether sequences run, are held or stand still under a trip (phase 5)."""
        self._guards: dict[Any, Guard] = {}
        self._local: dict[tuple[int, frozenset[int]], list[Guard]] = {}
        self._needs: dict[frozenset[int], tuple[set[int], list[ck.CheckedStatement]]] = {}
        self._written = [(s, writes_of(s), reads_of(s)) for s in studied.opening]

    # -- guards

    def guards(self, active: set[tuple[int, int]], standing: bool) -> list[Guard]:
        """What is looked at while these steps are active; `standing`: a trip stands, or a sequence is held."""
        studied, found = self.studied, []
        here: dict[int, set[int]] = {}
        for i, a in active:
            here.setdefault(i, set()).add(a)
            if len(studied.thresholds[i, a]):
                found.append(self._of_time(("passes", i, a)))
        for i, steps in here.items():
            found += self._of_sequence(i, frozenset(steps))
        if self.program.reset >= 0 and standing:
            found.append(self._of_slot(self.program.reset))
        found += self._always
        if not (studied.edges or studied.assumptions):
            return list(dict.fromkeys(found))
        known = {slot for g in found for slot in self.needs(g.reads)[0]}
        edges: set[int] = set()
        while inner := sorted((known & studied.edges.keys()) - studied.stale - edges):
            edges.update(inner)
            for slot in inner:  # what it looks at may have edges too
                edge = self._one(("edge", slot), partial(self._of_edge, slot))
                found.append(edge)
                known |= self.needs(edge.reads)[0]
        left = list(enumerate(studied.assumptions))
        while near := [(n, tree) for n, tree in left if not known.isdisjoint(slots_of(tree))]:
            left = [x for x in left if x not in near]
            for n, tree in near:  # what is assumed of other inputs may say something of these too
                assumed = self._one(("assumed", n), partial(self._of, tree, must=True))
                found.append(assumed)
                known |= self.needs(assumed.reads)[0]
        return list(dict.fromkeys(found))

    def _of_sequence(self, i: int, steps: frozenset[int]) -> list[Guard]:
        """What is looked at of a sequence while these of its steps are active."""
        if (i, steps) not in self._local:
            self._local[i, steps] = [
                self._one(("way", i, w.index, n), partial(self._of_way, i, tree))
                for w in self.studied.ways[i] if steps.issuperset(w.sources)
                for n, tree in enumerate(self.studied.conditions(w))
            ]  # fmt: skip
        return self._local[i, steps]

    @cached_property
    def _always(self) -> list[Guard]:
        """What is looked at in every situation."""
        studied = self.studied
        found = [self._of(tree) for tree in (*studied.trips.values(), *studied.holds.values())]
        found += [self._of_slot(q.restart) for q in self.program.sequences if q.restart >= 0]
        self.deciding.update(found, [self._of_slot(self.program.reset)] if self.program.reset >= 0 else [])
        asked = {slot for pair in studied.pairs for slot in pair}
        for lock in self.program.interlocks:
            if lock.final in asked:
                changes = {s: (False, True) for s in slots_of(lock.checked) if self._moves(s)}
                found.append(self._of(lock.checked, changes))
        for block in (studied.closing, *studied.bodies.values()):
            for s in block:
                found += [
                    self._of_slot(slot) for slot in reads_of(s) if slot in studied.domains or slot in studied.edges
                ]
        carried = set(studied.carried)
        for _, writes, _ in self._written:
            found += [self._of_slot(slot) for slot in writes & carried]
        for b in stored_blocks(studied):
            if b.rule.since_stored is not None:
                found.append(self._of_time(("stored", b.order, 0)))
        return found

    def _moves(self, slot: int) -> bool:
        """Whether a slot may change within a scan after phase 5."""
        return slot in self._flags or any(t.slot == slot for t in self.program.targets)

    def _one(self, key: Any, make: Callable[[], Guard]) -> Guard:
        """The guard of a key, made once."""
        if key not in self._guards:
            self._guards[key] = make()
        return self._guards[key]

    def _of_way(self, sequence: int, tree: ck.Checked) -> Guard:
        """A condition of a transition: flags of sequences before its own may have changed, variables be zeroed by a trip."""
        zeroed = {slot: (KEEP, 0) for t in self.program.trips for slot, _ in t.zeroed}
        earlier = {x.x for p in self.program.sequences if p.index < sequence for x in p.steps}
        either = {s: (False, True) for s in slots_of(tree) if s in earlier} | zeroed
        return self._of(tree, either, owner=sequence)

    def _of(
        self, tree: ck.Checked, either: dict[int, tuple[Any, ...]] | None = None, must: bool = False, owner: Any = None
    ) -> Guard:
        reads = frozenset(slots_of(tree))
        changing = tuple((s, v) for s, v in (either or {}).items() if s in reads)
        if len(changing) > 6:
            raise StudyError("a condition reads more than six flags that change in the same scan")
        return Guard(lambda env: [evaluate(tree, env)], reads, must, either=changing, owner=owner)

    def _of_slot(self, slot: int) -> Guard:
        return self._one(("slot", slot), lambda: Guard(lambda env: [env[slot]], frozenset([slot])))

    def _of_time(self, choice: Choice) -> Guard:
        return self._one(choice, lambda: Guard(lambda env: [env[choice]], frozenset(), passes=(choice,)))  # type: ignore[index]

    def _of_edge(self, slot: int) -> Guard:
        """RISING and HELD need TRUE, FALLING needs FALSE."""
        kind, operand = self.studied.edges[slot]

        def fits(env: Env) -> list[Any]:
            now = evaluate(operand, env)
            return [np.logical_or(np.logical_not(env[slot]), now if kind != "FALLING" else np.logical_not(now))]

        return Guard(fits, frozenset([slot, *slots_of(operand)]), must=True)

    def needs(self, reads: frozenset[int]) -> tuple[set[int], list[ck.CheckedStatement]]:
        """What reading these slots hangs on, with the opening statements that work them out."""
        if reads not in self._needs:
            needed, statements = set(reads), set()
            for n in range(len(self._written) - 1, -1, -1):
                _, writes, inner = self._written[n]
                if writes & needed:
                    statements.add(n)
                    needed |= inner
            self._needs[reads] = needed, [self._written[n][0] for n in sorted(statements)]
        return self._needs[reads]

    # -- clusters

    def clusters(
        self, guards: list[Guard], active: set[tuple[int, int]], apart: frozenset[Choice] = frozenset()
    ) -> list[Cluster]:
        """Guards that share something to choose, beside what is chosen `apart`, belong together."""
        found: list[tuple[frozenset[Choice], list[Guard]]] = []
        for g in guards:
            mine = self._hangs_on(g, active) - apart
            if not mine:
                continue
            those = [g]
            for c in [c for c in found if not mine.isdisjoint(c[0])]:
                found.remove(c)
                mine, those = mine | c[0], [*c[1], *those]
            found.append((mine, those))
        return [Cluster(sorted(choices), those) for choices, those in found]

    def _hangs_on(self, g: Guard, active: set[tuple[int, int]]) -> frozenset[Choice]:
        """What is chosen that a guard looks at."""
        if g not in self._choices:
            needed, _ = self.needs(g.reads)
            mine: set[Choice] = {("value", s, 0) for s in needed if s in self.studied.domains}
            mine |= {("edge", s, 0) for s in needed if s in self.studied.edges}
            timed = [
                key for key in (self._steps[s] for s in needed if s in self._steps) if self.studied.thresholds[key]
            ]
            self._choices[g] = frozenset(mine | set(g.passes)), timed
        fixed, timed = self._choices[g]
        return fixed | {("passes" if key in active else "last", *key) for key in timed} if timed else fixed

    def domain(self, choice: Choice) -> tuple[Any, ...]:
        if choice[0] == "last":
            return self.studied.times(choice[1], choice[2])
        return self.studied.domains[choice[1]] if choice[0] == "value" else (False, True)

    def plan(self, active: set[tuple[int, int]], standing: bool) -> Plan:
        """What is chosen while these steps are active. What many look at is chosen first, so that the rest falls apart."""
        pattern = (frozenset(active), standing)
        if pattern not in self._plans:
            self._plans[pattern] = self._plan(self.guards(active, standing), active)
        return self._plans[pattern]

    def _plan(self, guards: list[Guard], active: set[tuple[int, int]]) -> Plan:
        first = self._shared(guards, active, self._apart) if self._apart else frozenset()
        found = self.clusters(guards, active, first)
        more = frozenset[Choice]().union(*(self._worth_it(c, active) for c in found))
        if more:
            first, self._apart = first | more, self._apart | more
            found = self.clusters(guards, active, first)
        if not first or 2 ** len(first) > MOST_FIRST:
            return Plan(None, tuple(map(self._try, self.clusters(guards, active) if first else found)))
        alone = [g for g in guards if g.must and (mine := self._hangs_on(g, active)) and mine <= first]
        return Plan(
            self._try(Cluster(sorted(first), alone), all_differ=True), tuple(self._try(c, first) for c in found)
        )

    def _shared(self, guards: list[Guard], active: set[tuple[int, int]], among: frozenset[Choice]) -> frozenset[Choice]:
        """Of some choices those that guards of several owners look at."""
        owners: dict[Choice, set[Any]] = {}
        for g in guards:
            for c in self._hangs_on(g, active) & among:
                owners.setdefault(c, set()).add(g.owner)
        return frozenset(c for c, by in owners.items() if len(by) > 1)

    def _worth_it(self, cluster: Cluster, active: set[tuple[int, int]]) -> frozenset[Choice]:
        """The choices of a cluster that several sequences, trips or texts look at, if it is large and falls apart without."""
        size = 1
        for c in cluster.choices:
            size *= len(self.domain(c))
        if size <= LARGE:
            return frozenset()
        yes_or_no = frozenset(c for c in cluster.choices if c[0] in ("value", "edge") and len(self.domain(c)) == 2)
        shared = self._shared(cluster.guards, active, yes_or_no)
        return shared if len(self.clusters(cluster.guards, active, shared)) > 1 else frozenset()

    def rests_with(self, cluster: Cluster) -> frozenset[int]:
        """The sequences of which nothing has to be chosen for a cluster while all of them stand still; none where others look
        at it too.
        """
        out: set[int] = set()
        for g in cluster.guards:
            if g.passes:
                out.update(self.program.by_order[n].sequence if what == "stored" else n for what, n, _ in g.passes)
            elif g.owner is not None:
                out.add(g.owner)
            elif not g.must:
                return frozenset()
        return frozenset(out)

    def _try(self, cluster: Cluster, first: frozenset[Choice] = frozenset(), all_differ: bool = False) -> Tried:
        key = (frozenset(cluster.guards), tuple(cluster.choices), first, all_differ)
        if key not in self._tried:
            self._tried[key] = Tried(self, cluster, first, all_differ)
        return self._tried[key]

    def is_read(self, key: Any, read: set[int]) -> bool:
        what, i, a = key
        if what == "var":
            return i in read
        if what in ("code", "late"):
            x = self.studied.sequences[i].steps[a]
            return bool({x.x, x.t, x.late} & read) or self.studied.sequences[i].state in read
        return False

    def codes(
        self, cluster: Cluster, values: dict[Choice, NDArray[Any]], columns: Columns, cases: int, size: int
    ) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """A number for what comes of each choice in each case, and whether the choice may be made."""
        env = self._env(values, columns)
        fits = np.ones((cases, size), bool)
        code = np.zeros((cases, size), np.int64)
        for g in cluster.guards:
            _, statements = self.needs(g.reads)
            for changed in product(*(v for _, v in g.either)):
                here = dict(env)
                run(statements, here, True)
                here |= {slot: value for (slot, _), value in zip(g.either, changed) if value is not KEEP}
                for value in g.values(here):
                    value = np.broadcast_to(np.asarray(value), (cases, size))
                    if g.must:
                        fits &= value.astype(bool)
                    elif value.dtype == bool:
                        code = code * 2 + value
                    else:
                        known, index = np.unique(value, return_inverse=True)
                        code = code * len(known) + index.reshape(value.shape)
            if code.max(initial=0) > 1 << 40:
                code = np.unique(code, return_inverse=True)[1].reshape(code.shape)
        return code, fits

    def _env(self, values: dict[Choice, NDArray[Any]], columns: Columns) -> Env:
        """Situations down, choices across."""
        studied, env = self.studied, dict(enumerate(self.studied.start))
        picked = {key: column[None, :] for key, column in values.items()}
        for choice, value in picked.items():
            if choice[0] in ("value", "edge"):
                env[choice[1]] = value
            else:
                env[choice] = value  # type: ignore[index]
        for (what, i, a), column in columns.items():
            if what == "var":
                env[i] = column.astype(bool) if isinstance(studied.start[i], bool) else column
            elif what in ("value", "edge"):
                env[i] = column.astype(bool)  # chosen before
            elif what == "late":
                env[self.studied.sequences[i].steps[a].late] = column.astype(bool)
            elif what == "code":
                x, thresholds = self.studied.sequences[i].steps[a], studied.thresholds[i, a]
                env[x.x] = column > 0
                if x.t in studied.wanted:
                    passed = column
                    if ("passes", i, a) in picked:
                        moves = (column > 0) & (column < len(thresholds) + 1) & picked["passes", i, a]
                        passed = column + moves
                    env[x.t] = np.where(
                        passed > 0, np.array(studied.times(i, a))[passed], picked.get(("last", i, a), 0)
                    )
        for slot, q in self._states.items():
            if slot in studied.wanted:
                env[slot] = self._state(q, columns)
        return env

    def _state(self, q: LinkedSequence, columns: Columns) -> Any:
        state: Any = 1 << 40
        for x in q.steps:
            if ("code", q.index, x.index) in columns:
                on = columns["code", q.index, x.index] > 0
                state = np.where(on & (x.number < state), x.number, state)
        return np.where(np.asarray(state) == 1 << 40, -1, state)
