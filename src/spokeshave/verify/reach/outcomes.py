"""What can be chosen in a scan, as far as it makes a difference: outcomes of guards, not values of inputs.

Situations with the same active steps look at the same guards. What is chosen falls into clusters that no guard looks at
together; in each cluster every choice is tried once for every value of the variables its guards read, and of those with
the same outcomes one is kept. The ways to go on are the products of the clusters.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property, partial
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.engine.program import LinkedSequence
from spokeshave.language import checked as ck
from spokeshave.verify.reach.columns import Env, evaluate, reads_of, run, slots_of, writes_of
from spokeshave.verify.reach.phases import Choice, Columns, stored_blocks
from spokeshave.verify.reach.studied import TIMED, Studied, StudyError

MOST_TOGETHER = 1 << 20
"""So many choices of one cluster are tried at most."""

MOST_WAYS = 1 << 20
"""So many ways to go on from one situation are followed at most."""

KEEP = object()
"""In the place of a value: the one that is there."""

AT_ONCE = 1 << 21
"""Values of a column that is worked with at once, about."""

Rows = NDArray[np.intp]


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


@dataclass
class Cluster:
    choices: list[Choice] = field(default_factory=list)
    guards: list[Guard] = field(default_factory=list)


class Outcomes:
    """The ways to go on from situations, for one program."""

    def __init__(self, studied: Studied) -> None:
        self.studied, self.program = studied, studied.program
        self._steps = {x.t: (q.index, x.index) for q in self.program.sequences for x in q.steps}
        self._flags = {x.x: (q.index, x.index) for q in self.program.sequences for x in q.steps}
        self._states = {q.state: q for q in self.program.sequences}
        self._clusters: dict[tuple[frozenset[tuple[int, int]], bool], list[_Tried]] = {}
        """What can be chosen, by the active steps and whether a trip stands."""
        self._tried: dict[tuple[frozenset[Guard], tuple[Choice, ...]], _Tried] = {}
        """What was tried already, by what is looked at and what is chosen: many situations have the same clusters."""
        self._guards: dict[Any, Guard] = {}
        self._needs: dict[frozenset[int], tuple[set[int], list[ck.CheckedStatement]]] = {}
        self._written = [(s, writes_of(s), reads_of(s)) for s in studied.opening]

    # -- guards

    def guards(self, active: set[tuple[int, int]], standing: bool) -> list[Guard]:
        """What is looked at while these steps are active; `standing`: a trip stands, or a sequence is held."""
        studied, program, found = self.studied, self.program, []
        for q in program.sequences:
            for w in studied.ways[q.index]:
                if all((q.index, a) in active for a in w.sources):
                    for n, tree in enumerate(studied.conditions(w)):
                        found.append(self._one(("way", q.index, w.index, n), partial(self._of_way, q.index, tree)))
            if q.restart >= 0:
                found.append(self._of_slot(q.restart))
        for i, tree in studied.trips.items():
            found.append(self._one(("trip", i), partial(self._of, tree)))
        for i, tree in studied.holds.items():
            found.append(self._one(("hold", i), partial(self._of, tree)))
        if program.reset >= 0 and standing:
            found.append(self._of_slot(program.reset))
        found += self._always
        for key in active:
            if len(studied.thresholds[key]):
                found.append(self._of_time(("passes", *key)))
        known = {slot for g in found for slot in self.needs(g.reads)[0]}
        for slot in sorted(known & studied.edges.keys() - studied.stale):
            found.append(self._one(("edge", slot), partial(self._of_edge, slot)))
        for n, tree in enumerate(studied.assumptions):
            if known & set(slots_of(tree)):
                found.append(self._one(("assumed", n), partial(self._of, tree, must=True)))
        return list(dict.fromkeys(found))

    @cached_property
    def _always(self) -> list[Guard]:
        """What is looked at in every situation."""
        studied, found = self.studied, []
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
            if b.qualifier in TIMED:
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
        earlier = {x.x for p in self.program.sequences[:sequence] for x in p.steps}
        return self._of(tree, {s: (False, True) for s in slots_of(tree) if s in earlier} | zeroed)

    def _of(self, tree: ck.Checked, either: dict[int, tuple[Any, ...]] | None = None, must: bool = False) -> Guard:
        reads = frozenset(slots_of(tree))
        changing = tuple((s, v) for s, v in (either or {}).items() if s in reads)
        if len(changing) > 6:
            raise StudyError("a condition reads more than six flags that change in the same scan")
        return Guard(lambda env: [evaluate(tree, env)], reads, must, either=changing)

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

    def clusters(self, guards: list[Guard], active: set[tuple[int, int]]) -> list[Cluster]:
        """Guards that share something to choose belong together."""
        found: list[Cluster] = []
        for g in guards:
            needed, _ = self.needs(g.reads)
            mine: set[Choice] = {("value", s, 0) for s in needed if s in self.studied.domains}
            mine |= {("edge", s, 0) for s in needed if s in self.studied.edges}
            for key in (self._steps[s] for s in needed if s in self._steps):
                if self.studied.thresholds[key]:
                    mine.add(("passes" if key in active else "last", *key))
            mine |= set(g.passes)
            if not mine:
                continue
            joined = Cluster(sorted(mine), [g])
            for c in [c for c in found if mine & set(c.choices)]:
                found.remove(c)
                joined = Cluster(sorted({*joined.choices, *c.choices}), [*c.guards, *joined.guards])
            found.append(joined)
        return found

    def domain(self, choice: Choice) -> tuple[Any, ...]:
        if choice[0] == "last":
            return self.studied.times(choice[1], choice[2])
        return self.studied.domains[choice[1]] if choice[0] == "value" else (False, True)

    def look(self, columns: Columns, rows: int, active: set[tuple[int, int]]) -> Looked:
        """What can be chosen in situations in which these steps are active."""
        standing = any(columns["trip", t.index, 0].any() for t in self.program.trips) or any(
            columns["hold", q.index, 0].any() for q in self.program.sequences if ("hold", q.index, 0) in columns
        )
        pattern = (frozenset(active), standing)
        if pattern not in self._clusters:
            found = self.clusters(self.guards(active, standing), active)
            self._clusters[pattern] = [self._try(c, columns) for c in found]
        looked = Looked(np.ones(rows), [])
        for tried in self._clusters[pattern]:
            begins, counts = tried.ways(columns, rows)
            looked.many *= counts
            looked.clusters.append((tried, begins, counts))
        if looked.many.max(initial=0) > MOST_WAYS:
            raise StudyError(
                f"from one situation there are {looked.many.max():,.0f} ways to go on, more than are followed"
            )
        return looked

    def _try(self, cluster: Cluster, columns: Columns) -> _Tried:
        key = (frozenset(cluster.guards), tuple(cluster.choices))
        if key not in self._tried:
            self._tried[key] = _Tried(self, cluster, columns)
        return self._tried[key]

    def is_read(self, key: Any, read: set[int]) -> bool:
        what, i, a = key
        if what == "var":
            return i in read
        if what in ("code", "late"):
            x = self.program.sequences[i].steps[a]
            return bool({x.x, x.t, x.late} & read) or self.program.sequences[i].state in read
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
            elif what == "late":
                env[self.program.sequences[i].steps[a].late] = column.astype(bool)
            elif what == "code":
                x, thresholds = self.program.sequences[i].steps[a], studied.thresholds[i, a]
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


@dataclass
class Looked:
    """What can be chosen in some situations: `many` ways each; of each cluster where its picks begin and how many there are."""

    many: NDArray[np.float64]
    clusters: list[tuple[_Tried, Rows, Rows]]

    def pieces(self, most: int) -> Iterator[Rows]:
        """Rows in pieces of about `most` ways."""
        piece = ((np.cumsum(self.many) - self.many) // most).astype(np.int64)
        yield from np.split(np.arange(len(piece)), np.flatnonzero(np.diff(piece)) + 1)

    def expand(self, rows: Rows) -> tuple[Rows, dict[Choice, NDArray[Any]]]:
        """The ways to go on from some of these rows: the row each begins in, and what is chosen."""
        source = rows
        chosen: dict[Choice, NDArray[Any]] = {}
        for tried, begins, counts in self.clusters:
            many = counts[source]
            new = np.repeat(np.arange(len(source)), many)
            nth = np.arange(len(new)) - np.repeat(np.cumsum(many) - many, many)
            pick = tried.picks[begins[source][new] + nth]
            chosen = {key: column[new] for key, column in chosen.items()}
            source = source[new]
            chosen |= {key: tried.values[key][pick] for key in tried.cluster.choices}
        return source, chosen


class _Tried:
    """A cluster with what was found of it: for each case of the variables its guards read, the choices that differ."""

    def __init__(self, outcomes: Outcomes, cluster: Cluster, columns: Columns) -> None:
        self.outcomes, self.cluster = outcomes, cluster
        domains = [outcomes.domain(c) for c in cluster.choices]
        self.size = int(np.prod([len(d) for d in domains]))
        if self.size > MOST_TOGETHER:
            names = ", ".join(outcomes.studied.of_slot[c[1]].name for c in cluster.choices if c[0] == "value")
            raise StudyError(f"{names} are looked at together in too many ways ({self.size:,})")
        self.values: dict[Choice, NDArray[Any]] = {}
        rest = np.arange(self.size)
        for key, domain in zip(reversed(cluster.choices), reversed(domains)):
            self.values[key] = np.array(domain)[rest % len(domain)]
            rest = rest // len(domain)
        read = {s for g in cluster.guards for s in outcomes.needs(g.reads)[0]}
        self.keys = [key for key in columns if outcomes.is_read(key, read)]
        self.known: dict[bytes, int] = {}
        self.begins: list[int] = []
        self.counts: list[int] = []
        self.picks: NDArray[np.intp] = np.zeros(0, np.intp)

    def ways(self, columns: Columns, rows: int) -> tuple[Rows, Rows]:
        """For each row where its picks begin and how many there are."""
        if self.keys:
            stacked = np.stack([columns[key] for key in self.keys], 1).astype(np.int16)
            whole = stacked.view(np.dtype((np.void, 2 * len(self.keys))))[:, 0]
            _, first, which = np.unique(whole, return_index=True, return_inverse=True)
            cases, which = stacked[first], which.reshape(-1)
        else:
            cases, which = np.zeros((1, 0), np.int16), np.zeros(rows, np.intp)
        names = [c.tobytes() for c in cases]
        new = [n for n, name in enumerate(names) if name not in self.known]
        if new:
            self._try(cases[new], [names[n] for n in new])
        numbers = np.array([self.known[name] for name in names])[which]
        return np.array(self.begins)[numbers], np.array(self.counts)[numbers]

    def _try(self, cases: NDArray[np.int16], names: list[bytes]) -> None:
        step = max(1, AT_ONCE // self.size)
        for at in range(0, len(cases), step):
            part = cases[at : at + step].astype(np.int32)
            columns = {key: part[:, n : n + 1] for n, key in enumerate(self.keys)}
            code, fits = self.outcomes.codes(self.cluster, self.values, columns, len(part), self.size)
            case, pick = np.nonzero(fits)
            both = case * (int(code.max(initial=0)) + 1) + code[case, pick]
            _, first = np.unique(both, return_index=True)
            order = np.lexsort((pick[first], case[first]))
            counts = np.bincount(case[first], minlength=len(part))
            begins = len(self.picks) + np.cumsum(counts) - counts
            self.picks = np.concatenate([self.picks, pick[first][order]])
            for n, name in enumerate(names[at : at + step]):
                self.known[name] = len(self.begins)
                self.begins.append(int(begins[n]))
                self.counts.append(int(counts[n]))
