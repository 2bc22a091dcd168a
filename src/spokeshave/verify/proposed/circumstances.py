"""What people and power do to a machine that goes round: two runs in a row, a button that stays pressed, the power cut and the
emergency stop hit in each step. A run that leads round once is done again under each.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import free_name, taken_names
from spokeshave.model.project import Project, Scenario, SignalClass, Type
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.keep import hand_row, shown_time, situation_at
from spokeshave.verify.progress import look
from spokeshave.verify.proposed.goals import Goal, goals_of
from spokeshave.verify.proposed.rows import deed_rows, rows_of_rule, scenario_rows
from spokeshave.verify.proposed.search import Node
from spokeshave.verify.scenarios import run_scenario

CIRCUMSTANCE = "circumstance"
"""The kind of these goals."""
PAUSE_MS = 1_000
"""Between one run and the next."""
MOST_STEPS = 60
"""Steps in which something is done, each a run of its own."""
_SPOILT = frozenset(("failure", "tripped", "restart", "power cycle", "hazard", "late", "forced", "hand drive"))


@dataclass(frozen=True, slots=True)
class Round:
    """A run that leads from the initial steps back to them, `ms` long, through `steps`."""

    session: Session
    ms: int
    steps: tuple[str, ...]

    @property
    def done(self) -> tuple[Stimulus, ...]:
        """What was done on the way."""
        return tuple(st for st, _ in self.session.log if st.time_ms < self.ms)


def returns(session: Session) -> list[int]:
    """The scans in which the last of the sequences that went away is back in its initial step, in their order."""
    homes = [session.trace.windows(f"{q.name}.{q.initial}.X") for q in session.program.project.sequences]
    away = [h for h in homes if len(h) > 1]
    if not away:
        return []
    backs = (max(h[n][0] for h in away) for n in range(1, min(map(len, away))))
    return [k for k in backs if all(any(a <= k < b for a, b in h) for h in homes)]


def round_of(sessions: Iterable[Session]) -> Round | None:
    """The shortest run that leads round once, and that nothing went wrong in."""
    best: Round | None = None
    for session in sessions:
        back = next(iter(returns(session)), -1)
        ms = (back + 1) * session.program.period_ms
        if back < 0 or (best is not None and ms >= best.ms):
            continue
        if any(e.kind in _SPOILT and e.k <= back for e in session.trace.events):
            continue
        initial = {f"{q.name}.{q.initial}.X" for q in session.program.project.sequences}
        steps = [r.name for r in session.trace.recorded if r.kind == "step" and r.name not in initial]
        visited = [(w[0][0], n) for n in steps if (w := session.trace.windows(n)) and w[0][0] < back]
        best = Round(session, ms, tuple(n.removesuffix(".X") for _, n in sorted(visited)))
    return best


def circumstances(project: Project, found: Round) -> list[Goal]:
    """What can be done to a machine that goes round so."""

    def goal(name: str, words: str) -> Goal:
        return Goal(CIRCUMSTANCE, ("", name), words, Place("project"))

    pressed = {st.target for st in found.done if st.do == "hand"}
    out = [goal("twice", "two runs in a row")]
    for d in project.devices:
        if d.kind == "button" and d.name in pressed:
            out.append(goal(f"held {d.name}", f"{d.name} stays pressed"))
    out.append(goal("power", "power is cut in each step"))
    out += [goal(f"stop {d.name}", f"{d.name} is hit in each step") for d in project.devices if d.kind == "emergency"]
    return out


def shown_in(session: Session, found: Round) -> Iterator[tuple[str, str]]:
    """What a run has shown of it: names of circumstances, and the step where one is to come in each."""
    trace, period = session.trace, session.program.period_ms
    spoilt = min((e.k for e in trace.events if e.kind in _SPOILT), default=session.k)
    backs = [k for k in returns(session) if k < spoilt]
    if len(backs) > 1:
        yield "twice", ""
    hits = [("power", e.k) for e in trace.events if e.kind == "power cycle"]
    since: dict[str, int] = {}
    for st, _ in session.log:
        device = session.program.project.device(st.target) if st.do == "hand" else None
        if device is not None and device.kind == "emergency" and st.value:
            hits.append((f"stop {device.name}", st.time_ms // period))
        elif device is not None and device.kind == "button":
            began = since.pop(device.name, -1)
            if st.value:
                since[device.name] = st.time_ms if began < 0 else began
            elif began >= 0 and any(began < k * period < st.time_ms for k in backs):
                yield f"held {device.name}", ""
    for name, began in since.items():
        if any(began < k * period for k in backs):
            yield f"held {name}", ""
    for name, k in hits:
        for step in found.steps:
            if any(a <= max(0, k - 1) < b or a == k for a, b in trace.windows(f"{step}.X")):
                yield name, step


def open_circumstances(project: Project, found: Round, passed: Iterable[Session]) -> list[Goal]:
    """Those that no run which passed has shown; one that is to come in each step, in all of them."""
    shown = {pair for session in passed for pair in shown_in(session, found)}
    return [
        g
        for g in circumstances(project, found)
        if (g.key[1], "") not in shown and not all((g.key[1], step) in shown for step in found.steps)
    ]


def scenarios_of(project: Project, found: Round, goal: Goal) -> list[Scenario] | str:
    """Scenarios that show a circumstance; none where nothing passes that tells of it, or in words what protects the machine and does
    not hold under it.
    """
    look()
    name = str(goal.key[1])
    words = goal.words[:1].upper() + goal.words[1:]
    if name == "twice":
        again = [replace(st, time_ms=st.time_ms + found.ms + PAUSE_MS) for st in found.done]
        return _as_it_runs(project, found, words, [*found.done, *again], 2 * found.ms + PAUSE_MS)
    kind, _, device = name.partition(" ")
    if kind == "held":
        first = next(st for st in found.done if st.target == device and st.value)
        held = [st for st in found.done if st.target != device or st is first]
        return _as_it_runs(project, found, words, held, 2 * found.ms)
    deed = "power cycle" if name == "power" else hand_row(project, Stimulus(0, "hand", device, 1), None)[0]
    made = [_in_each_step(project, found, words, deed, at, steps) for at, steps in _between_deeds(found).items()]
    why = next((m for m in made if isinstance(m, str)), None)
    return why if why is not None else [m for m in made if not isinstance(m, str)]


def _as_it_runs(project: Project, found: Round, name: str, done: list[Stimulus], ms: int) -> list[Scenario]:
    """A scenario of what is done, with what comes of it; none where it does not pass."""
    session = Session(found.session.program, done)
    session.run_for(ms)
    scenario = Scenario(name, "\n".join(scenario_rows(session, Node(session), [])))
    result = run_scenario(project, scenario)
    return [] if result.problems or result.worst is not None else [scenario]


def _between_deeds(found: Round) -> dict[int, list[str]]:
    """The steps by how many rows of deeds stand before they are entered: deeds wait for their moments one after the other."""
    session, at = found.session, dict[int, list[str]]()
    for step in found.steps[:MOST_STEPS]:
        entered = session.trace.windows(f"{step}.X")[0][0] * session.program.period_ms
        before = [st for st in found.done if st.time_ms <= entered]
        at.setdefault(len(list(deed_rows(session, before))), []).append(step)
    return at


def _in_each_step(project: Project, found: Round, name: str, deed: str, at: int, steps: list[str]) -> Scenario | str:
    """A scenario with a run for each of some steps, in which something is done as soon as it is entered: what protects the machine
    holds in all of them, and what is off at the end of all is expected to be. In words what does not hold.
    """
    session = found.session
    deeds = list(deed_rows(session, found.done))
    where = free_name("Where", taken_names(project))
    head = [f"for each {where} in {', '.join(steps)}", *deeds[:at], f"on {where}: {deed}", *deeds[at:]]
    head.append(f"run for {shown_time(found.ms + PAUSE_MS)}")
    rules = [g for g in goals_of(project) if g.kind in ("interlock", "opposed")]
    wanted = [*dict.fromkeys(row for g in rules for row in rows_of_rule(g)), "expect no hazards"]
    first = run_scenario(project, Scenario(name, "\n".join([*head, *wanted])))
    if first.problems:
        return first.problems[0].message
    bad = next(((run, v) for run in first.runs for v in run.verdicts if v.outcome is not Outcome.PASS), None)
    if bad is not None:
        return f"with {bad[0].label} there fails {bad[1].text}, since {bad[1].because}"
    rows = list(wanted)
    ends = [run.live for run in first.runs if run.live is not None]
    places = {situation_at(s, s.k - 1) for s in ends}
    if len(places) == 1 and (place := places.pop()):
        rows.append(f"expect finally {place}")
    moved = [
        s.name
        for s in project.signals
        if s.cls is SignalClass.OUTPUT
        and s.type is Type.BOOL
        and len(session.trace.changes(session.trace.column(s.name))[0]) > 1
    ]
    off = [name for name in moved if not any(e.trace.at(name, e.k - 1) for e in ends)]
    if off:
        rows.append(f"expect finally NOT {off[0]}" if len(off) == 1 else f"expect finally NOT ({' OR '.join(off)})")
    scenario = Scenario(name, "\n".join([*head, *rows]))
    result = run_scenario(project, scenario)
    return scenario if not result.problems and result.worst is None else "it does not end alike twice"
