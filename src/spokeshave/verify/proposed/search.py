"""From step to step: in each new situation everything is tried that hands can do, and waiting, until nothing new comes."""

from __future__ import annotations

import heapq
import random
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import count
from typing import Any

from spokeshave.engine.program import Program
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation, show_times
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import Value
from spokeshave.verify.proposed.goals import Way, ways_now
from spokeshave.verify.proposed.hands import Deed, Hands
from spokeshave.verify.protection import Key, tests

SETTLE_MS = 200
"""So long after a step was entered something is done: as a person would, and so that rows say when."""
SOON_MS = 1_000
"""So long one looks for what comes of a deed; what takes longer comes by waiting."""
WAIT_MS = 120_000
"""So long is waited in a situation for a step to come or go."""
MOST_SITUATIONS = 400
MOVES = 120
"""Steps of a run that goes round."""
MOST_IDLE = 12
"""So often in a row something is done at random that leads nowhere at once."""
MOST_ROUNDS = 40
"""So often one waits on while another sequence goes round."""
AGAIN = 3
"""So often the same steps are looked at with other hands before others come first."""


@dataclass(frozen=True, slots=True)
class Node:
    """A situation on the way: the run that came there, the transitions that it has gone and the rules that acted in it. `given` are
    settings that are otherwise than in the file.
    """

    session: Session
    acted: frozenset[Key] = frozenset()
    ways: frozenset[Way] = frozenset()
    given: tuple[tuple[str, Value], ...] = ()

    @property
    def ms(self) -> int:
        return self.session.time_ms

    @property
    def done(self) -> tuple[Stimulus, ...]:
        """What has been done since the begin of the run, in the order of time."""
        return tuple(st for st, _ in self.session.log)


class Run:
    """A run on from a node, watched for rules that act, for ways that are gone, and for steps that come and go."""

    def __init__(self, node: Node, open_tests: list[tuple[Key, Callable[[Situation], bool]]]) -> None:
        self.session = node.session.fork()
        self.session.tells_moves = True
        self.acted, self.ways, self.given = set(node.acted), set(node.ways), node.given
        self.gone: list[Way] = []
        """The ways in the order in which they were gone since the node."""
        self._tests = open_tests
        self._before = [list(a) for a in self.session.situation.active]

    def do(self, deed: Deed) -> None:
        """Does it now; what it lets go of later is done in time."""
        now = self.session.time_ms
        for later, what, target, value in deed.done:
            self.session.log.append((Stimulus(now + later, what, target, value), True))
        self.session.log.sort(key=lambda entry: entry[0].time_ms)

    @property
    def moved(self) -> bool:
        return self.session.situation.active != self._before

    def on(self, ms: int, until: Callable[[], bool] = lambda: False) -> None:
        """On for some time, until something holds after a scan in which anything happened."""
        program = self.session.program
        end = self.session.k + ms // program.period_ms

        def look(s: Situation) -> bool:
            show_times(program, s)
            self.acted.update(key for key, acts in self._tests if key not in self.acted and acts(s))
            now = ways_now(program, s)
            self.ways |= now
            self.gone += now
            return until()

        while self.session.k < end and self.session.stopped is None:
            had = self.session.k
            self.session.run_scans(end - had, look)
            if self.session.k == had or until():
                return

    def turn_to_here(self) -> None:
        """What moves is told from now on."""
        self._before = [list(a) for a in self.session.situation.active]

    def settle(self) -> None:
        """Until something can be done."""
        self.on(SETTLE_MS)

    def node(self) -> Node:
        return Node(self.session, frozenset(self.acted), frozenset(self.ways), self.given)


def stays(s: Situation) -> frozenset[tuple[int, int, int]]:
    """The active steps, each with its sequence and when it was entered."""
    return frozenset((i, a, s.entered[i][a]) for i, active in enumerate(s.active) for a in active)


class Search:
    """`nodes` are the situations that were met, in the order of looking; `expand` tries everything in the next one."""

    def __init__(self, program: Program) -> None:
        self.program, self.hands = program, Hands(program.project)
        self.tests = tests(program)
        self.nodes: list[Node] = []
        self.full = False
        """Whether there were more situations than are looked at."""
        self._known: set[tuple[Any, ...]] = set()
        self._often: Counter[Any] = Counter()
        self._open: list[tuple[int, int, int, Node]] = []
        self._number = count()
        self._meet(self._begun(Node(Session(program))))

    def _begun(self, node: Node) -> Run:
        run = Run(node, self.tests)
        run.settle()
        return run

    def _meet(self, run: Run) -> None:
        """Keeps the situation of a run, if it is new."""
        key = self.hands.situation(run.session)
        if run.session.stopped is not None or key in self._known:
            return
        if len(self.nodes) >= MOST_SITUATIONS:
            self.full = True
            return
        self._known.add(key)
        self._often[key[0]] += 1
        node = run.node()
        self.nodes.append(node)
        heapq.heappush(self._open, (self._often[key[0]] // AGAIN, node.ms, next(self._number), node))

    @property
    def done(self) -> bool:
        return not self._open

    def expand(self) -> list[Node]:
        """Tries everything in one situation; gives the runs that came of it."""
        *_, node = heapq.heappop(self._open)
        found = []
        for deed in (None, *self.hands.deeds(node.session)):
            run = self.tried(node, deed)
            if run.moved:
                run.settle()
            elif deed is None and self._changes(node, run):
                run = self._as_soon_as_it_differs(node)
            found.append(run.node())
            if deed is None and run.moved and (later := self._waited_on(node, found[-1])) is not None:
                found.append(later.node())
                self._meet(later)
            self._meet(run)
        return found

    def cut_power(self) -> list[Node]:
        """Cuts the power in each situation that was met; gives the runs that came of it."""
        found = []
        for node in list(self.nodes):
            run = Run(node, self.tests)
            run.do(Deed("cut the power", ((0, "power", "", True),)))
            run.settle()
            found.append(run.node())
            self._meet(run)
        return found

    def _waited_on(self, node: Node, moved: Node) -> Run | None:
        """Waiting goes on where only another sequence has moved and all is as it was once: steps that last on come to an end
        behind that. None where nothing new comes of it.
        """
        began, run = stays(node.session.situation), Run(moved, self.tests)
        for _ in range(MOST_ROUNDS):
            if self.hands.situation(run.session) not in self._known:
                break
            if run.session.stopped is not None or began.isdisjoint(stays(run.session.situation)):
                return None
            run.turn_to_here()
            run.on(WAIT_MS, lambda: run.moved)
            if not run.moved:
                return None
            run.settle()
        return run if run.session.time_ms > moved.ms else None

    def _changes(self, node: Node, run: Run) -> bool:
        """Whether something else is missing than before."""
        return self.hands.awaited(run.session) != self.hands.awaited(node.session)

    def _as_soon_as_it_differs(self, node: Node) -> Run:
        """Waits no longer than until something else is missing than before: the bath is warm, the leaf is at its end."""
        run, before = Run(node, self.tests), self.hands.awaited(node.session)
        run.on(WAIT_MS, lambda: self.hands.awaited(run.session) != before)
        run.settle()
        return run

    def walk(self, program: Program, given: tuple[tuple[str, Value], ...] = (), moves: int = MOVES) -> Iterator[Node]:
        """A long run that goes round, so that what is counted comes about: in each situation what leads to a way that it has gone
        least. Gives the run wherever it went a way for the first time. `program` is that of the file with settings as `given`.
        """
        node, often = self._begun(Node(Session(program), given=given)).node(), Counter[Way]()
        chance, idle = random.Random(0), 0
        for _ in range(moves):
            tried = [self.tried(node, deed) for deed in (None, *self.hands.deeds(node.session))]
            found = [run for run in tried if run.gone]
            others = [run for run in tried[1:] if not any(run.session.situation.trip_on)]
            if not found and self._changes(node, tried[0]):
                others = [self._as_soon_as_it_differs(node)]
            idle = 0 if found else idle + 1
            if idle > MOST_IDLE or not (found or others) or node.session.stopped is not None:
                return
            run = min(found, key=lambda run: min(often[way] for way in run.gone)) if found else chance.choice(others)
            often.update(run.gone)
            run.settle()
            known, node = node.ways, run.node()
            if node.ways != known:
                yield node

    def tried(self, node: Node, deed: Deed | None) -> Run:
        """What comes of a deed, or of waiting: up to where a step comes or goes."""
        run = Run(node, self.tests)
        if deed is not None:
            run.do(deed)
        run.on(WAIT_MS if deed is None else SOON_MS, lambda: run.moved)
        return run
