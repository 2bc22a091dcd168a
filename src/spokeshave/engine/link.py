"""From a machine file to a program that runs, with everything that stands in the way as diagnostics."""

from __future__ import annotations

from collections.abc import Sequence
from operator import itemgetter
from typing import Any, NamedTuple

from spokeshave.engine import EngineError
from spokeshave.engine import program as pg
from spokeshave.engine.checked_texts import Texts
from spokeshave.engine.link_alarms import AlarmLinker
from spokeshave.engine.link_devices import DeviceLinker
from spokeshave.engine.link_names import check_names
from spokeshave.engine.link_protection import ProtectionLinker
from spokeshave.engine.link_sequence import SequenceLinker
from spokeshave.engine.names import TextScope
from spokeshave.engine.thresholds import read_times
from spokeshave.language import checked as ck
from spokeshave.language.compile import Choice, Compiled, compile_units
from spokeshave.language.effects import is_pure
from spokeshave.language.sub_sequences import run_problems, runs_any, without_runs, written_out
from spokeshave.machine.kinds import device_problems
from spokeshave.model.answers import Answers
from spokeshave.model.diagnostics import Diagnostic, Place
from spokeshave.model.project import Project, SignalClass, Type


class LinkError(EngineError):
    """A machine file that cannot run; `found` says why."""

    def __init__(self, found: list[Diagnostic]) -> None:
        super().__init__("\n".join(map(str, found)))
        self.found = found


def link(project: Project, also: Sequence[ck.Checked] = ()) -> pg.Program:
    """The program of a machine file. Raises `LinkError` with every error found.

    No scan is jumped over in which one of the conditions in `also` could turn: somebody looks at them from outside.
    """
    return _link(project, also) if also else _known(project)


def _link(project: Project, also: Sequence[ck.Checked] = ()) -> pg.Program:
    linker = Linker(project, also)
    program = linker.program()
    if program is None:
        raise LinkError(linker.found)
    return program


_known = Answers(_link, most=2)


def link_problems(project: Project) -> list[Diagnostic]:
    """What keeps a machine file from running; empty if it runs."""
    return Linker(project).problems()


class _Read(NamedTuple):
    """What was read of a machine file, with its texts as units that wait to be compiled."""

    charts: SequenceLinker
    machine: DeviceLinker
    sequences: list[Any]
    trips: list[Any]
    interlocks: list[Any]
    pairs: list[Any]
    alarms: AlarmLinker
    own_alarms: list[Any]
    opening: int | None
    closing: int | None
    home: Any
    reset: Any


def _edges_outside(also: Sequence[ck.Checked]) -> int:
    """How many edges conditions have that are looked at from outside: who looks keeps them, in slots counted from the end."""
    return max((-e.slot for tree in also for e in ck.edges(tree)), default=0)


class Linker:
    """Checks every text of a machine file in its place, then compiles them all at once."""

    def __init__(self, project: Project, also: Sequence[ck.Checked] = ()) -> None:
        self.given, self.also = project, also
        self.project = written_out(project)
        self.texts = Texts(self.project)
        self.found = self.texts.found

    def problems(self) -> list[Diagnostic]:
        """What keeps the machine file from running; empty if it runs."""
        self.read()
        return self.found

    def read(self) -> _Read | None:
        """Every text checked in its place, or None with the errors in `found`."""
        project, texts = self.project, self.texts
        if runs_any(self.given):
            self.found += run_problems(self.given) or Linker(without_runs(self.given)).problems()
            if self.found:
                return None  # told of the texts as they are written, not of those that become of them
        check_names(project, texts.note)
        self.found += device_problems(project)
        if self.found:
            return None
        for place, p in texts.table.routines.problems():
            texts.note("text", place.spot(p.line, p.column), p.message, p.advice)
        if self.found:
            return None
        plain = TextScope(texts.table, None, texts.acted)
        opening = self._logic(project.opening, Place("opening"), plain)
        charts = SequenceLinker(texts)
        sequences = [charts.read(i, q) for i, q in enumerate(project.sequences)]
        protection = ProtectionLinker(texts)
        trips = [protection.trip(i, t) for i, t in enumerate(project.trips)]
        interlocks = [protection.interlock(i, lock) for i, lock in enumerate(project.interlocks)]
        pairs = [protection.pair(o) for o in project.opposed]
        alarms = AlarmLinker(texts)
        own_alarms = [linked for a in project.alarms if (linked := alarms.alarm(a)) is not None]
        closing = self._logic(project.closing, Place("closing"), plain)
        machine = DeviceLinker(texts)
        machine.read()
        home = texts.condition(project.home, Place(item="home"), plain) if project.home.strip() else None
        reset = texts.rising(project.reset, Place(item="reset"), plain)
        if self.found:
            return None
        return _Read(
            charts, machine, sequences, trips, interlocks, pairs, alarms, own_alarms, opening, closing, home, reset
        )

    def program(self) -> pg.Program | None:
        """The program, or None with the errors in `found`."""
        found = self.read()
        if found is None:
            return None
        project, texts, table = self.project, self.texts, self.texts.table
        charts, machine, sequences, trips, interlocks, pairs, alarms, own_alarms, opening, closing, home, reset = found
        edges = [
            (
                kind,
                slot,
                texts.unit(operand, Place()),
                None if time is None else texts.unit(time, Place()),
                f"{kind} {ck.form(operand)}",
            )
            for kind, slot, operand, time in table.edges
        ]
        code = compile_units(texts.units, charts.chosen)

        def f(unit: int | None) -> Compiled | None:
            return None if unit is None else code[unit]

        linked = tuple(charts.finish(s, code) for s in sequences)
        locked = {i.output for i in project.interlocks} | {n for o in project.opposed for n in (o.first, o.second)}
        barred = {n.lower() for n in locked}
        targets = [
            pg.Target(
                n, slot, f(unit) if unit >= 0 else None, -1 if unit >= 0 or n.lower() in barred else self._final(n)
            )
            for n, slot, unit in charts.targets
        ]
        straight = {t.final for t in targets}
        unseen = [a for n, a in table.read.items() if a != table.final[n] and table.final[n] not in straight]
        unseen += [table.home, *(slot for _, slot, _, _ in table.edges), *range(table.first_instance, table.first_edge)]
        looked_at = [*texts.units, *((0, tree) for tree in self.also)]
        times = read_times(table, looked_at, frozenset(s.t for q in linked for s in q.steps), unseen)
        moving = machine.finish(times, code)
        devices = moving["devices"]
        slots = [s for d in devices for s in d.drives]
        blocks = sorted((b for q in linked for s in q.steps for b in s.blocks), key=lambda b: b.order)
        return pg.Program(
            project=project,
            period_ms=project.period_ms,
            places=tuple(texts.places),
            start=(*table.values, *[False] * _edges_outside(self.also)),
            recorded=self._recorded(),
            slots=dict(table.final),
            asked={table.final[n]: table.read[n] for n in table.final},
            types={s.name.lower(): s.type for s in project.variables},
            sequences=linked,
            targets=tuple(targets),
            blocks=tuple(blocks),
            opening=f(opening),
            closing=f(closing),
            edges=tuple(pg.LinkedEdge(k, s, code[o], f(t), form) for k, s, o, t, form in edges),
            trips=tuple(t(code) for t in trips if t is not None),
            alarms=tuple(a(code) for a in own_alarms),
            words=alarms.words(),
            reset=reset,
            home=f(home[0]) if home else None,
            home_slot=table.home,
            home_tree=home[1] if home else None,
            interlocks=tuple(i(code) for i in interlocks if i is not None),
            pairs=tuple(p for p in pairs if p is not None),
            outputs=tuple(
                (table.read[s.name.lower()], table.final[s.name.lower()])
                for s in project.signals
                if s.cls is SignalClass.OUTPUT and table.final[s.name.lower()] not in straight
            ),
            **moving,
            driven=tuple(i for i, d in enumerate(devices) for _ in d.drives),
            drives=itemgetter(*slots) if len(slots) > 1 else lambda v: tuple(v[s] for s in slots),
            instances=dict(table.base),
            times=times,
            watched=self._watched(linked),
            by_order={b.order: b for b in blocks},
            has_bodies=any(t.run is not None for t in targets),
            transparent=not any(isinstance(tree, tuple) for _, tree in texts.units) and not project.trips,
            restless=bool(project.opening.strip() or project.closing.strip() or project.home.strip())
            or any(not isinstance(tree, (tuple, Choice)) and not is_pure(tree) for _, tree in texts.units),
            looked_at=bool(self.also),
            guarded=bool(project.trips) or any(q.can_hold or q.restart >= 0 for q in linked),
            retained=tuple(table.read[s.name.lower()] for s in project.variables if s.retain),
        )

    def _final(self, output: str) -> int:
        """The slot an output goes out in; -1 for an internal, which has no other."""
        name, table = output.lower(), self.texts.table
        return table.final[name] if table.final[name] != table.read[name] else -1

    def _watched(self, linked: tuple[pg.LinkedSequence, ...]) -> frozenset[int]:
        """Slots that are read by other texts than conditions of transitions and permissives."""
        ways = (w for q in linked for s in q.steps for w in s.ways)
        of_ways = {id(tree) for w in ways for tree in (w.checked, *(tree for _, tree, _ in w.permissives))}
        trees = (tree for _, tree in self.texts.units if not isinstance(tree, (tuple, Choice)))
        watching = [*self.also, *(tree for tree in trees if id(tree) not in of_ways)]
        return frozenset(load.slot for tree in watching for load in ck.loads(tree))

    def _recorded(self) -> tuple[pg.Recorded, ...]:
        t = self.texts.table
        out = [pg.Recorded(s.name, s.type, t.final[s.name.lower()], s.cls.value) for s in self.project.variables]
        for q in self.project.sequences:
            for s in q.steps:
                slot = t.member[(q.name.lower(), s.name.lower(), "x")]
                out.append(pg.Recorded(f"{q.name}.{s.name}.X", Type.BOOL, slot, "step"))
        return tuple(out)

    def _logic(self, text: str, place: Place, scope: TextScope) -> int | None:
        if not text.strip():
            return None
        tree = self.texts.check(text, place, scope, "statements")
        return None if tree is None else self.texts.unit(tree, place)
