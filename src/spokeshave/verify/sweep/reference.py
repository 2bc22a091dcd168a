"""The reference cycle: a scenario that passes, run once, with a checkpoint where each step is entered first."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from spokeshave.engine.program import Program
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation
from spokeshave.language import checked as ck
from spokeshave.language.compile import Compiled, compile_units, or_false
from spokeshave.language.scenario_lists import cases_of
from spokeshave.machine.rest import sleeps
from spokeshave.model.project import Project, Type, Value
from spokeshave.model.sections import sections, side_by_side
from spokeshave.verify.scenario_language import check_sheet
from spokeshave.verify.script import Script, with_parameters
from spokeshave.verify.sweep.concerns import Concerns
from spokeshave.verify.sweep.cycle import SweepError, cycle_of, reset_of
from spokeshave.verify.sweep.faults import HANDS
from spokeshave.verify.sweep.phrases import LEFT
from spokeshave.verify.sweep.safety import Safety
from spokeshave.verify.sweep.watch import Entry, Truth, Watched, truth
from spokeshave.verify.turned_off import SHOWN_BY

NEAR = 0.05
"""Part of the range a number has in the reference cycle by which it may differ where a step is left."""

PATIENCE_MS = 1000
"""How much longer than its longest window a cycle may take."""


@dataclass(frozen=True, slots=True)
class End:
    """How a cycle ends: active steps, outputs that move something, counters, and where devices are."""

    active: tuple[tuple[int, ...], ...]
    outputs: tuple[Value, ...]
    counts: tuple[Value, ...]
    places: Truth


class Reference:
    """`steps` are what the columns of the matrix are, `at[step]` the run as it was when the step had just been entered."""

    def __init__(self, project: Project, cycle: str = "", reset: str = "") -> None:
        """`cycle` and `reset` are names of scenarios; without them the plan of the machine file, then the first cycle there is.

        Raises `SweepError` for a cycle that cannot be one, and `LinkError`. Whether it passes is asked with `passes`.
        """
        self.scenario = cycle_of(project, cycle)
        self.checked = check_sheet(project, cases_of(self.scenario.text).cases[0].text)
        self.reset = reset_of(project, reset or project.sweep.reset)
        self.project = project = with_parameters(project, self.checked.sheet.given)
        self.concerns = Concerns(project)
        self.rules = self._rules()
        watched = tuple(t for c in (self.checked, *((self.reset,) if self.reset else ())) for r in c.sheet.deeds
                        for t in c.conditions[r.line])  # fmt: skip
        never = tuple(self.checked.conditions[r.line][0] for r in self.checked.sheet.expectations if r.kind == "never")
        looked_at = self._looked_at = (*watched, *never)
        self.breaks: list[str] = []
        """Rules of its own that it breaks: they are left out."""
        self.session = Session(project, also=looked_at)
        self.program: Program = self.session.program
        self.timed = any(slot in self._step_times() for t in looked_at for slot in (x.slot for x in ck.loads(t)))
        self._sections = [sections(q) for q in project.sequences]
        self._moving = _moving_outputs(self.program, self.concerns.regulated())
        self._counters = tuple(
            r.slot for r in self.program.recorded if r.kind == "internal" and r.type in (Type.INT, Type.DINT)
        )
        self._totals = [
            frozenset(n for n, t in enumerate(d.device.sensor_terminals()) if t.total) for d in self.program.devices
        ]
        """Of each device the sensors that tell what it has done in all: no place, and nothing to come back to."""
        self._names = {r.slot: r.name for r in self.program.recorded}
        self._run()

    def _rules(self) -> tuple[tuple[str, Compiled], ...]:
        """What must never be: the `never` rows of the cycle."""
        rows = [r for r in self.checked.sheet.expectations if r.kind == "never"]
        return tuple(
            (r.conditions[0], or_false(compile_units([(0, self.checked.conditions[r.line][0])])[0]))
            for r in rows
        )  # fmt: skip

    def _run(self) -> None:
        session, program = self.session, self.program
        self.total = -(-self.checked.sheet.length_ms // program.period_ms)
        run = Watched(session, Script(session, self.checked), self.rules)
        run.timed = self.timed
        run.script.begin()
        run.run_to(1)
        self.initial = tuple(tuple(sorted(a)) for a in session.situation.active)
        self.at = {(i, a): run.fork() for i, active in enumerate(self.initial) for a in active}
        self.first_counts = self.counts(session.situation)
        self.safety = Safety(program, session.situation)
        while run.run_to(self.total, next_entry=True):
            for i, entries in enumerate(run.entries):
                new = [a for a in entries if (i, a) not in self.at]
                self.at |= {(i, a): run.fork() for a in new}
        if session.stopped is not None:
            raise SweepError(f"{self.scenario.name} stops: {session.stopped}")
        if run.broken is not None:
            broken = run.broken[1]
            self.breaks.append(broken)
            self.rules = tuple(r for r in self.rules if r[0] != broken)
            self.session = Session(self.project, also=self._looked_at)
            self.program = self.session.program
            self._run()
            return
        self.entries = tuple(tuple(e) for e in run.entries)
        if not any(self.entries):
            raise SweepError(f"{self.scenario.name} enters no step: there is no cycle to sweep")
        self.tail = self.total - run.last_entry - 1
        self.end = self.end_of(session.situation)
        self.returns = self.end.active == self.initial
        """Whether it ends in the steps in which it begins, so that it can be played again."""
        self._see_leavings(run)
        windows = [
            x.longest.ms(session.situation.v) for q in program.sequences for x in q.steps if x.longest is not None
        ]
        self.patience = (max(windows, default=0) + PATIENCE_MS) // program.period_ms
        """Scans to wait longer than the cycle takes: the longest window."""
        self.steps = tuple(sorted(self.at))
        names = [f"{q.name}.{x.name}.X" for q in program.sequences for x in q.steps]
        stays = [b - a for name in names for a, b in session.trace.windows(name) if b < session.k]
        self.longest_stay = max(stays, default=0)
        """Scans for which it stays in a step that it leaves, at most."""

    def later(self, step: Entry, device: str, failure: str) -> Entry:
        """The last step entered behind this one in which the failure might as well come: it sleeps until then."""
        program = self.program
        if any(e.kind == "alarm" for e in self.session.trace.events):
            return step  # one in between could be taken for one of the fault
        d = next(i for i, x in enumerate(program.devices) if x.name == device)
        linked, now = program.devices[d], self.at[step].session.situation
        drives = now.drives[linked.first_drive : linked.first_drive + len(linked.drives)]
        state, hand, found = now.dev_state[d], now.dev_hand[d], step
        for after in sorted(self.at, key=lambda x: self.at[x].session.k):
            then = self.at[after].session.situation
            if then.k <= now.k:
                continue
            if then.dev_state[d] != state or then.dev_hand[d] != hand:
                break
            if not sleeps(linked.device, state, drives, hand, failure, now.k, then.k):
                break
            found = after
        return found

    def _step_times(self) -> frozenset[int]:
        return frozenset(x.t for q in self.program.sequences for x in q.steps)

    def name(self, step: Entry) -> str:
        """`Sequence.Step`"""
        q = self.program.sequences[step[0]]
        return f"{q.name}.{q.steps[step[1]].name}"

    def end_of(self, s: Situation) -> End:
        """How the machine stands at the end of scan `s.k - 1`."""
        active = tuple(tuple(sorted(a)) for a in s.active)
        outputs = tuple(s.v[slot] for slot in self._moving)
        return End(active, outputs, self.counts(s), truth(self.program, s))

    def _see_leavings(self, run: Watched) -> None:
        """Of each stay in a step, where the devices were that matter: those its sequence drives, those it waits for."""
        self.leavings: dict[Entry, list[Truth]] = {}
        self.matters: dict[Entry, list[tuple[int, ...]]] = {}
        self._sensors: dict[Entry, list[tuple[frozenset[int] | None, ...]]] = {}
        """Which sensors of these devices are compared: all, or those that are waited for."""
        self._span = _span([here for _, _, here, _ in run.leavings])
        for step, _, here, driven in run.leavings:
            moved, awaited = self._driven_for(step, driven), self._awaited(step)
            devices = sorted({*moved, *awaited})
            self.matters.setdefault(step, []).append(tuple(devices))
            self._sensors.setdefault(step, []).append(tuple(None if d in moved else awaited[d] for d in devices))
            self.leavings.setdefault(step, []).append(tuple(here[d] for d in devices))

    def _driven_for(self, step: Entry, driven: tuple[bool, ...]) -> set[int]:
        """The driven devices with a drive that its sequence acts on, but for steps that run beside it."""
        program, (i, a) = self.program, step
        blocks = [b for x in program.sequences[i].steps if not self._beside(i, a, x.index) for b in x.blocks]
        acted = _outputs_of(program, (b.target for b in blocks))
        return {n for n, d in enumerate(program.devices) if driven[n] and not acted.isdisjoint(d.drives)}

    def _awaited(self, step: Entry) -> dict[int, frozenset[int]]:
        """The devices whose sensors the transitions behind a step read, and which sensors."""
        reads = self.program.sequences[step[0]].steps[step[1]].reads
        found = {
            n: frozenset(index for index, slot in d.sensors if slot in reads)
            for n, d in enumerate(self.program.devices) if d.device.kind not in HANDS
        }  # fmt: skip
        return {n: sensors for n, sensors in found.items() if sensors}

    def lets_go(self, step: Entry, visit: int) -> list[int]:
        """The devices that are driven by a step until it is left for a certain time, and by none that comes then."""
        program, (i, a) = self.program, step
        steps = program.sequences[i].steps
        after = {t for w in steps[a].ways for t in w.targets}
        kept = [b for x in after for b in steps[x].blocks] + [b for b in steps[a].blocks if b not in steps[a].constant]
        slots = _outputs_of(program, (b.target for b in kept))
        known = zip(self.matters[step][visit], self._sensors[step][visit])
        return [d for d, sensors in known if sensors is None and slots.isdisjoint(program.devices[d].drives)]

    def other_step(self, run: Watched) -> str:
        """The first step that was entered out of its order, or an empty text.

        Steps of branches that run side by side have no order among them.
        """
        for i, (now, then) in enumerate(zip(run.entries, self.entries)):
            if tuple(now) == then[: len(now)]:
                continue
            gone: set[int] = set()
            for a in now:
                at = next((n for n, x in enumerate(then) if x == a and n not in gone), len(then))
                missing = next(
                    (x for n, x in enumerate(then[:at]) if n not in gone and not self._beside(i, a, x)), None
                )
                if missing is not None or at == len(then):
                    after = f" instead of {self.name((i, missing))}" if missing is not None else ""
                    return f"{self.name((i, a))} was entered{after}"
                gone.add(at)
        return ""

    def _beside(self, i: int, a: int, b: int) -> bool:
        steps = self.program.sequences[i].steps
        of = self._sections[i].of
        return side_by_side(of.get(steps[a].name, ()), of.get(steps[b].name, ()))

    def astray(self, run: Watched, numbers: bool) -> str:
        """Where a device was elsewhere than in the reference cycle when a step was left, or an empty text.

        `numbers` too are compared only where the run has come the same way: they hang on what was before.
        """
        for step, visit, places, _ in run.leavings:
            known = (self.matters[step][visit], self._sensors[step][visit], places, self.leavings[step][visit])
            for d, sensors, here, there in zip(*known):
                if not self._alike(d, sensors, here, there, numbers):
                    return LEFT.say(step=self.name(step), device=self.program.devices[d].name)
        return ""

    def _alike(
        self, d: int, sensors: frozenset[int] | None, here: tuple[Value, ...], there: tuple[Value, ...], numbers: bool
    ) -> bool:
        """Switches alike, numbers within a part of their range."""
        for n, (a, b) in enumerate(zip(here, there)):
            if (sensors is not None and n not in sensors) or n in self._totals[d]:
                continue
            if not numbers and not isinstance(b, bool):
                continue
            if isinstance(b, float):
                if abs(a - b) > NEAR * self._span.get((d, n), 0.0):
                    return False
            elif a != b:
                return False
        return True

    def counts(self, s: Situation) -> tuple[Value, ...]:
        """The counters of the machine file."""
        return tuple(s.v[slot] for slot in self._counters)

    def ended_otherwise(self, s: Situation, before: tuple[Value, ...], numbers: bool) -> str:
        """What is otherwise at the end than in the reference cycle, or an empty text. `before` are the counters as the cycle
        began: one that goes on counting may have gone on by the same. `numbers` as in `astray`: a table that turns with the
        cycle stands elsewhere behind the next.
        """
        now, then = self.end_of(s), self.end
        if now.active != then.active:
            return "it does not end in the same steps"
        for slot, a, b in zip(self._moving, now.outputs, then.outputs):
            if a != b:
                return f"{self._names[slot]} ends {_shown(a)}, not {_shown(b)}"
        for slot, a, b, was, first in zip(self._counters, now.counts, then.counts, before, self.first_counts):
            if a not in (b, was + b - first):
                return f"{self._names[slot]} ends with {_shown(a)}, not {_shown(b)}"
        for i, (d, here, there) in enumerate(zip(self.program.devices, now.places, then.places)):
            pairs = ((x, y) for n, (x, y) in enumerate(zip(here, there)) if n not in self._totals[i])
            elsewhere = any(x != y and (numbers or isinstance(y, bool)) and not isinstance(y, float) for x, y in pairs)
            if elsewhere and not d.device.positions:
                return f"{d.name} does not end where it belongs"
        return ""


def _span(places: list[Truth]) -> dict[tuple[int, int], float]:
    """How far each number went between the leavings of steps, by device and sensor."""
    found: dict[tuple[int, int], tuple[float, float]] = {}
    for here in places:
        for d, values in enumerate(here):
            for n, x in enumerate(values):
                if isinstance(x, float):
                    low, high = found.get((d, n), (x, x))
                    found[d, n] = (min(low, x), max(high, x))
    return {key: high - low for key, (low, high) in found.items()}


def _shown(value: Value) -> str:
    return str(value).upper() if isinstance(value, bool) else f"{value:g}"


def _outputs_of(program: Program, targets: Iterable[int]) -> set[int]:
    """The slots of targets of blocks: as they are asked for, and as they go out."""
    slots = {program.targets[t].slot for t in targets}
    return slots | {final for final, asked in program.asked.items() if asked in slots}


def _moving_outputs(program: Program, regulated: frozenset[str]) -> tuple[int, ...]:
    """Slots of the outputs that do not only tell people something, and do not follow a number by themselves, whatever sequences do."""
    shown = {slot for d in program.devices if d.device.kind in SHOWN_BY for slot in d.drives}
    used = {slot for d in program.devices if d.device.kind not in SHOWN_BY for slot in d.drives}
    acted = _outputs_of(program, range(len(program.targets)))
    outputs = (r for r in program.recorded if r.kind == "output" and r.slot not in shown - used)
    return tuple(r.slot for r in outputs if r.slot in acted or r.name.lower() not in regulated)
