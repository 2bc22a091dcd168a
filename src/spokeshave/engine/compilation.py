"""A machine file with its texts compiled, and the programs that are made of it for those who look at a run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from operator import itemgetter
from typing import Any, NamedTuple

from spokeshave.engine import program as pg
from spokeshave.engine.checked_texts import Texts
from spokeshave.engine.link_alarms import AlarmLinker
from spokeshave.engine.link_devices import DeviceLinker
from spokeshave.engine.link_sequence import SequenceLinker
from spokeshave.engine.thresholds import TimesReader, expressions_of
from spokeshave.language import checked as ck
from spokeshave.language.compile import Choice, Compiled
from spokeshave.language.effects import is_pure
from spokeshave.model.project import Project, SignalClass, Type


class Read(NamedTuple):
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


class Compilation:
    """A machine file with all its texts compiled: the program when nobody looks from outside, and what others are made of."""

    def __init__(
        self, project: Project, texts: Texts, found: Read, code: list[Compiled], edges: tuple[pg.LinkedEdge, ...]
    ) -> None:
        self._project, self.texts, self._machine = project, texts, found.machine
        charts, table = found.charts, texts.table

        def f(unit: int | None) -> Compiled | None:
            return None if unit is None else code[unit]

        linked = tuple(charts.finish(s, code) for s in found.sequences)
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
        unseen += [table.home, *(e.slot for e in edges), *range(table.first_instance, table.first_edge)]
        self._reader = TimesReader(table, texts.units, frozenset(s.t for q in linked for s in q.steps), unseen)
        times = self._reader.times()
        moving = found.machine.finish(times, code)
        devices = moving["devices"]
        slots = [s for d in devices for s in d.drives]
        blocks = sorted((b for q in linked for s in q.steps for b in s.blocks), key=lambda b: b.order)
        locks = tuple(i(code) for i in found.interlocks if i is not None)
        impure = any(not isinstance(tree, (tuple, Choice)) and not is_pure(tree) for _, tree in texts.units)
        texts_run = [texts.units[u][1] for u in (found.opening, found.closing) if u is not None]
        always = [e for tree in texts_run for e in expressions_of(tree)] + ([found.home[1]] if found.home else [])
        runs_texts = bool(texts_run or found.home)
        may_stop = [lock.checked for lock in locks if not lock.pure]
        may_stop += [time for _, _, _, time in table.edges if time is not None and not is_pure(time)]
        self._program = pg.Program(
            project=project,
            period_ms=project.period_ms,
            places=tuple(texts.places),
            start=tuple(table.values),
            recorded=self._recorded(),
            slots=dict(table.final),
            asked={table.final[n]: table.read[n] for n in table.final},
            types={s.name.lower(): s.type for s in project.variables},
            sequences=linked,
            targets=tuple(targets),
            blocks=tuple(blocks),
            opening=f(found.opening),
            closing=f(found.closing),
            edges=edges,
            trips=tuple(t(code) for t in found.trips if t is not None),
            alarms=tuple(a(code) for a in found.own_alarms),
            words=found.alarms.words(),
            reset=found.reset,
            home=f(found.home[0]) if found.home else None,
            home_slot=table.home,
            home_tree=found.home[1] if found.home else None,
            interlocks=locks,
            pairs=tuple(p for p in found.pairs if p is not None),
            outputs=tuple(
                (table.read[s.name.lower()], table.final[s.name.lower()])
                for s in project.signals
                if s.cls is SignalClass.OUTPUT and table.final[s.name.lower()] not in straight
            ),
            **moving,
            driven=tuple(i for i, d in enumerate(devices) for _ in d.drives),
            drives=itemgetter(*slots) if len(slots) > 1 else (lambda v: (v[slots[0]],)) if slots else lambda v: (),
            instances=dict(table.base),
            times=times,
            watched=self._watched(linked),
            by_order={b.order: b for b in blocks},
            has_bodies=any(t.run is not None for t in targets),
            transparent=not any(isinstance(tree, tuple) for _, tree in texts.units) and not project.trips,
            restless=impure or runs_texts,
            runs_texts=runs_texts or bool(may_stop),
            always_read=frozenset(x.slot for tree in (*always, *may_stop) for x in ck.loads(tree)),
            looked_at=False,
            guarded=bool(project.trips) or any(q.can_hold or q.restart >= 0 for q in linked),
            retained=tuple(table.read[s.name.lower()] for s in project.variables if s.retain),
        )

    def program(self, also: Sequence[ck.Checked] = ()) -> pg.Program:
        """The program for somebody who looks at the conditions in `also`: their edges have slots at the end, which they
        keep themselves, and what they read is watched.
        """
        if not also:
            return self._program
        base, times = self._program, self._reader.times(also)
        edges = max((-e.slot for tree in also for e in ck.edges(tree)), default=0)
        return replace(
            base,
            start=(*base.start, *[False] * edges),
            times=times,
            watched=base.watched | {load.slot for tree in also for load in ck.loads(tree)},
            devices=self._machine.timed(base.devices, times),
            looked_at=True,
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
        return frozenset(load.slot for tree in trees if id(tree) not in of_ways for load in ck.loads(tree))

    def _recorded(self) -> tuple[pg.Recorded, ...]:
        t = self.texts.table
        out = [pg.Recorded(s.name, s.type, t.final[s.name.lower()], s.cls.value) for s in self._project.variables]
        for q in self._project.sequences:
            for s in q.steps:
                slot = t.member[(q.name.lower(), s.name.lower(), "x")]
                out.append(pg.Recorded(f"{q.name}.{s.name}.X", Type.BOOL, slot, "step"))
        return tuple(out)
