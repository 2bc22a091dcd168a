"""The cause-and-effect matrix: what protects as rows, what it works on as columns, what happens in the cells.

    kind        cause                        | Burner  DropDoor | steps of Roast | Roast   Cool
    trip        NOT EmergencyOk              |  off      off    |                | restart restart
    window      Roast.Drop over T#5s         |                  |     alarm      |
    interlock   TempOk is FALSE              |  off             |                |

The same term at several outputs is one row. An edit of the matrix is an edit of the rules behind it (`cause_effect_edits`).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Sequence, SignalClass, Trip, Type
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.protection import Key, Rule, rules
from spokeshave.verify.scenarios import Result

OUTSIDE = "outside"
"""What the cell of a sequence says that a trip does not act on."""


@dataclass(frozen=True, slots=True)
class Effect:
    """A column: an output, the steps of a sequence, or a sequence."""

    kind: str  # output, step, sequence
    name: str


@dataclass(frozen=True, slots=True)
class Cell:
    """What happens there: one or two words, and the whole sentence."""

    word: str
    sentence: str


@dataclass(frozen=True, slots=True)
class Cause:
    """A row. `condition` is what can be edited, `text` how the cause reads; `keys` tell what acts and is shown."""

    kind: str
    condition: str
    text: str
    keys: tuple[Key, ...]
    place: Place
    cells: dict[int, Cell] = field(default_factory=dict)

    @property
    def names(self) -> tuple[str, ...]:
        """The rules behind the row."""
        return tuple(dict.fromkeys(name for name, _ in self.keys))


@dataclass(frozen=True, slots=True)
class Matrix:
    """Causes as rows, effects as columns; the cells belong to the causes."""

    causes: tuple[Cause, ...]
    effects: tuple[Effect, ...]


def matrix(project: Project) -> Matrix:
    """The matrix of a machine file. Columns are all BOOL outputs, then the steps of each sequence and itself."""
    found = rules(project)
    outputs = [s.name for s in project.signals if s.cls is SignalClass.OUTPUT and s.type is Type.BOOL]
    about = {_sequence_of(r.guards) for r in found if r.kind in ("window", "permissive")}
    about |= {_sequence_of(g) for t in project.trips for g in t.go_to}
    effects = [Effect("output", n) for n in outputs]
    for q in project.sequences:
        effects += [Effect("step", q.name)] if q.name.lower() in about else []
        effects.append(Effect("sequence", q.name))
    at = {(e.kind, e.name.lower()): i for i, e in enumerate(effects)}
    causes: list[Cause] = []
    terms: dict[str, Cause] = {}
    for rule in found:
        if rule.kind != "interlock":
            causes.append(_cause(project, rule, at))
            continue
        for key in rule.keys:
            cell = Cell("off", f"{rule.guards} stays off while {key[1]} is FALSE")
            old = terms.get(key[1])
            if old is None:
                terms[key[1]] = Cause("interlock", key[1], f"{key[1]} is FALSE", (key,), rule.place)
                causes.append(terms[key[1]])
                old = terms[key[1]]
            elif key not in old.keys:
                new = Cause(old.kind, old.condition, old.text, (*old.keys, key), old.place, old.cells)
                causes[causes.index(old)] = terms[key[1]] = old = new
            _put(old, at, "output", rule.guards, cell)
    return Matrix(tuple(causes), tuple(effects))


def _sequence_of(step: str) -> str:
    return step.partition(".")[0].lower()


def _put(cause: Cause, at: dict[tuple[str, str], int], kind: str, name: str, cell: Cell) -> None:
    column = at.get((kind, name.lower()))
    if column is not None:
        cause.cells[column] = cell


def _cause(project: Project, rule: Rule, at: dict[tuple[str, str], int]) -> Cause:
    """The row of a rule that is no interlock."""
    guards = rule.guards
    texts = {"permissive": f"{rule.condition} is FALSE", "window": f"{guards} over {rule.condition}",
             "opposed": f"{guards.replace('/', ' and ')} together"}  # fmt: skip
    cause = Cause(rule.kind, rule.condition, texts.get(rule.kind, rule.condition), rule.keys, rule.place)
    if rule.kind == "trip":
        trip = next(t for t in project.trips if t.name == guards)
        for e, cell in _trip_cells(project, trip):
            _put(cause, at, e.kind, e.name, cell)
    elif rule.kind == "hold":
        q = project.sequence(guards)
        drops = q is not None and q.hold_outputs == "drop"
        word = "drops" if drops else "keeps"
        sentence = f"{guards} is held and {'drops what is not stored' if drops else 'keeps its outputs'}"
        _put(cause, at, "sequence", guards, Cell(word, sentence))
    elif rule.kind == "restart":
        _put(cause, at, "sequence", guards, Cell("restart", f"{guards} begins again, what it stored is cleared"))
    elif rule.kind == "permissive":
        _put(
            cause,
            at,
            "step",
            _sequence_of(guards),
            Cell("waits", f"{guards} is not entered while {rule.condition} is FALSE"),
        )
    elif rule.kind == "window":
        _window(project, rule, cause, at)
    else:
        for name, other in zip(guards.split("/"), reversed(guards.split("/"))):
            _put(cause, at, "output", name, Cell("not both", f"{name} stays off with {other}; {rule.condition}"))
    return cause


def _window(project: Project, rule: Rule, cause: Cause, at: dict[tuple[str, str], int]) -> None:
    sequence, _, name = rule.guards.partition(".")
    q = project.sequence(sequence)
    step = q.step(name) if q is not None else None
    response = step.response if step is not None else "alarm"
    ends = {"alarm": "an alarm is raised", "hold": f"an alarm is raised and {sequence} is held until the reset"}
    sentence = f"Outside its window ({rule.condition}): {ends.get(response, f'the trip {response} is raised')}"
    _put(cause, at, "step", sequence, Cell(response, sentence))
    if response == "hold":
        _put(cause, at, "sequence", sequence, Cell("holds", sentence))


def _trip_cells(project: Project, trip: Trip) -> Iterable[tuple[Effect, Cell]]:
    """What a trip does to the sequences in its scope, to the steps it goes to, and to their outputs."""
    to = {_sequence_of(g): g for g in trip.go_to}
    for q in project.sequences:
        if not trip.acts_on(q.name):
            yield Effect("sequence", q.name), Cell(OUTSIDE, f"{q.name} goes on: {trip.name} does not act on it")
            continue
        word = {"freeze": "freeze", "restart": "restart"}.get(trip.steps, "go to")
        sentence = {"freeze": f"{q.name} stands still where it is", "restart": f"{q.name} is in its initial step",
                    "go to": f"{q.name} goes on from {to.get(q.name.lower(), 'where it is')}"}[trip.steps]  # fmt: skip
        yield Effect("sequence", q.name), Cell(word, sentence)
        if trip.steps == "go to" and q.name.lower() in to:
            yield Effect("step", q.name), Cell(to[q.name.lower()].partition(".")[2], sentence)
        for output, stored in _commanded(project, q).items():
            keeps = (stored and trip.stored == "keep") or output.lower() in (n.lower() for n in trip.stays)
            sentence = f"{output} {'may stay on' if keeps else 'is off'} as long as {trip.name} stands"
            yield Effect("output", output), Cell("keeps" if keeps else "off", sentence)


def _commanded(project: Project, q: Sequence) -> dict[str, bool]:
    """The outputs a sequence's action blocks turn on, and whether any stores."""
    found: dict[str, bool] = {}
    for s in q.steps:
        for a in s.actions:
            signal = project.signal(a.target)
            if signal is not None and signal.cls is SignalClass.OUTPUT:
                found[signal.name] = found.get(signal.name, False) or a.qualifier.stored
    return found


@dataclass(frozen=True, slots=True)
class Showing:
    """A scenario in whose run a rule came into play, the run's place in the result, and when, in ms of the scenario."""

    scenario: str
    run: int
    time_ms: int


def shown(results: Iterable[Result]) -> dict[Key, list[Showing]]:
    """By rule and term, the runs of passed scenarios in which it came into play."""
    out: dict[Key, list[Showing]] = {}
    for r in results:
        if r.outcome is Outcome.PASS:
            for i, run in enumerate(r.runs):
                for key, ms in run.acted:
                    out.setdefault(key, []).append(Showing(r.scenario.name, i, ms))
    return out
