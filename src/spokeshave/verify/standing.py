"""What a verdict depends on, and whether it still holds after an edit: what must be proven again.

A run depends on everything that is read in it. It does not depend on what is said about things (comments, addresses, places
on the board), on what is declared and named nowhere, nor on what stands in a step that it never entered: such a step does
nothing and none of its ways out is asked (semantics sections 4 and 5), but for its edge operands, which are evaluated in
every scan (section 7), the permissive that is asked on the way into it (section 8), and which variables it acts on.
So each part of a machine file that matters gets a digest, and the digests of then and now are compared.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from hashlib import blake2b
from typing import Any

from spokeshave.language import LanguageError
from spokeshave.language.scenario import is_row, parse_scenario
from spokeshave.language.scenario_print import format_row
from spokeshave.language.sub_sequences import written_out
from spokeshave.language.tokens import Tokens
from spokeshave.model.diagnostics import several
from spokeshave.model.project import Project, Scenario, Sequence, Step, Transition
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenario_names import way_to
from spokeshave.verify.scenarios import Result

Basis = dict[str, str]
"""Parts of a machine file, in words, and the digest of each."""

ORDER = "the order of "
_EDGE = re.compile(r"\b(?:RISING|FALLING|HELD)\s*\(", re.IGNORECASE)
_NAME = re.compile(r"[a-z_][a-z0-9_]*")


@dataclass(frozen=True, slots=True)
class Proof:
    """The verdict of a scenario with what it depends on: the steps it entered, and digests of what was read.

    `acted` are the rules that came into play, and at which ms of the scenario; `on` is the day.
    """

    scenario: str
    outcome: Outcome
    basis: tuple[tuple[str, str], ...]
    visited: tuple[str, ...] | None = None
    acted: tuple[tuple[tuple[str, str], int], ...] = ()
    on: str = ""


def proof_of(result: Result, on: str = "") -> Proof:
    """What a result proves. One that could not be run depends on everything."""
    whole = bool(result.problems) or not result.runs
    visited = None if whole else tuple(sorted({n.lower() for r in result.runs for n in r.visited}))
    acted = {key: ms for r in reversed(result.runs) for key, ms in r.acted}
    texts = scenario_texts(result.project, result.scenario)
    basis = basis_of(result.project, texts, visited)
    return Proof(result.scenario.name, result.outcome, tuple(basis.items()), visited, tuple(acted.items()), on)


def since(proof: Proof, project: Project) -> tuple[str, ...]:
    """What a verdict depends on and has changed, in words; nothing if it holds for this machine file too, as far as that
    can be run at all.
    """
    now = project.scenario(proof.scenario)
    if now is None:
        return (f"scenario {proof.scenario}",)
    return changed(dict(proof.basis), basis_of(project, scenario_texts(project, now), proof.visited))


@dataclass(frozen=True, slots=True)
class Work:
    """What came of a `sweep` or a `study`, in a line, with what it depends on: of a sweep the cycle `about` which it was."""

    name: str
    said: str
    basis: tuple[tuple[str, str], ...]
    about: str = ""
    on: str = ""

    def since(self, project: Project) -> tuple[str, ...]:
        """What it depends on and has changed, in words."""
        now = sweep_basis(project, self.about) if self.name == "sweep" else study_basis(project)
        return changed(dict(self.basis), now)

    def words(self, project: Project) -> str:
        """What came of it and when, and whether that is so still.

        >>> Work("study", "nothing bad is found", tuple(study_basis(Project()).items()), on="2031-05-06").words(Project())
        'On 2031-05-06: nothing bad is found. Nothing it depends on has changed since'
        """
        parts = self.since(project)
        still = f"Since then changed: {told(parts)}" if parts else "Nothing it depends on has changed since"
        return f"On {self.on}: {self.said}. {still}"


def work_data(work: Work) -> dict[str, Any]:
    """What came of a sweep or a study as plain data, to be kept beside the machine file."""
    return {"verdict": work.said, "work": work.name, "about": work.about, "on": work.on, "basis": dict(work.basis)}


def work_of(data: Mapping[str, Any]) -> Work | None:
    """What came of a sweep or a study, from plain data; None where something is not as it was written."""
    try:
        basis = tuple((_text(k), _text(v)) for k, v in data["basis"].items())
        name = _text(data["work"])
        if name not in ("sweep", "study"):
            return None
        return Work(name, _text(data["verdict"]), basis, _text(data["about"]), _text(data["on"]))
    except (KeyError, TypeError, AttributeError):
        return None


def to_data(proof: Proof) -> dict[str, Any]:
    """A verdict as plain data, to be kept beside the machine file."""
    return {
        "verdict": proof.outcome.value, "scenario": proof.scenario, "on": proof.on, "basis": dict(proof.basis),
        "visited": None if proof.visited is None else list(proof.visited), "acted": [[*key, ms] for key, ms in proof.acted],
    }  # fmt: skip


def of_data(data: Mapping[str, Any]) -> Proof | None:
    """The verdict in plain data; None where something is not as it was written."""
    try:
        basis = tuple((_text(k), _text(v)) for k, v in data["basis"].items())
        visited = None if data["visited"] is None else tuple(map(_text, data["visited"]))
        acted = tuple(((_text(a), _text(b)), int(ms)) for a, b, ms in data["acted"])
        return Proof(_text(data["scenario"]), Outcome(data["verdict"]), basis, visited, acted, _text(data["on"]))
    except (KeyError, TypeError, ValueError, AttributeError):
        return None


def _text(value: object) -> str:
    if not isinstance(value, str):
        raise TypeError(value)
    return value


def changed(then: Mapping[str, str], now: Mapping[str, str]) -> tuple[str, ...]:
    """The parts that differ, those that are still there first; an order only where nothing else says what changed."""
    found = [part for part, digest in now.items() if then.get(part) != digest]
    found += [part for part in then if part not in now]
    return tuple(p for p in found if not p.startswith(ORDER)) or tuple(found)


def told(parts: tuple[str, ...]) -> str:
    """What has changed, in a few words.

    >>> told(("step Main.Open", "device Gate", "trip Stop", "signal Go"))
    'step Main.Open, device Gate and 2 more'
    """
    return several(parts, 2)


def scenario_texts(project: Project, scenario: Scenario) -> tuple[tuple[str, str], ...]:
    """What is said of the scenarios that run: its own rows, and those it begins after."""
    try:
        way = way_to(project, parse_scenario(scenario.text).start, scenario.name)
    except ValueError as error:
        way, said = [], str(error)
    else:
        said = ""
    ahead = [(f"scenario {s.name}", f"{mark} {_rows(s.text)}") for s, mark in way]
    rows = "".join(s.text for s in (scenario, *(s for s, _ in way)))
    # A list may name a recipe without its row: any of them whose name stands in a row that there is.
    named = [r for r in project.recipes if f'"{r.name}"'.lower() in rows.lower()] if "recipe" in rows.lower() else []
    values = [(f"recipe {r.name}", repr(r.values)) for r in named]
    return ("the rows of the scenario", f"{said} {_rows(scenario.text)}"), *ahead, *values


def sweep_basis(project: Project, cycle: str) -> Basis:
    """What the sweep of a reference cycle depends on."""
    told_by = [s for s in project.scenarios if s.name in (cycle, project.sweep.reset)]
    texts = [(f"scenario {s.name}", text) for s in told_by for _, text in scenario_texts(project, s)]
    return basis_of(project, [("how it is swept", f"{cycle}; {project.sweep.reset}"), *texts])


def study_basis(project: Project) -> Basis:
    """What the answers of the reachability study depend on: all of the program, nothing of the machine."""
    return basis_of(project, [("what is asked", repr(project.study))], machine=False)


def basis_of(
    project: Project,
    texts: Iterable[tuple[str, str]] = (),
    visited: Collection[str] | None = None,
    machine: bool = True,
) -> Basis:
    """Digests of what a run depends on that entered only the steps `visited` (`sequence.step` in small letters; None for
    all) and was told `texts`; without `machine` the devices have no part in it.
    """
    index = _index_of(written_out(project))  # what is run by a step depends on that step
    found = _Parts()
    for words, text in texts:
        found.put(words, repr(text))
    for words, text in index.always:
        found.put(words, text)
    for q in index.sequences:
        q.entered(found, q.every if visited is None else q.initial | q.every.intersection(visited))
    for words, text in index.machine if machine else ():
        found.put(words, text)
    found.declared(index.known)
    return {words: _digest(text)[0] for words, text in found.parts.items()}


@lru_cache(maxsize=4000)
def _rows(text: str) -> str:
    """The rows of a scenario without notes, and without what it shows."""
    rows = (format_row(line) for line in text.splitlines() if is_row(line))
    return "\n".join(r for r in rows if not r.startswith("shows "))


@lru_cache(maxsize=50_000)
def code(text: str) -> str:
    """A text of the language without comments, spaces and the difference of letters; one that cannot be read as it is."""
    try:
        words = Tokens(text)
    except LanguageError:
        return text
    return " ".join(words.word(i) for i in range(len(words.kinds) - 1)).lower()


@lru_cache(maxsize=50_000)
def _digest(text: str) -> tuple[str, frozenset[str]]:
    """The digest of what is said of a part, and the names in it."""
    digest = blake2b(text.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()
    return digest, frozenset(_NAME.findall(text.lower()))


@dataclass
class _Parts:
    """Parts of a machine file as they are gathered: in words, and all that is to be known of each."""

    parts: dict[str, str] = field(default_factory=dict)

    def put(self, words: str, text: str) -> None:
        key, n = words, 1
        while key in self.parts:
            n += 1
            key = f"{words} ({n})"
        self.parts[key] = text

    def declared(self, known: Mapping[str, list[tuple[str, str]]]) -> None:
        """What is declared and named anywhere in the parts there are, and the steps named there."""
        looked: set[str] = set()
        waiting = list(self.parts.values())
        while waiting:
            for name in _digest(waiting.pop())[1] - looked:
                looked.add(name)
                for words, text in known.get(name, ()):
                    self.put(words, text)
                    waiting.append(text)


class _Flow:
    """A sequence, ready to be asked what matters of it for a run that entered some of its steps."""

    def __init__(self, q: Sequence) -> None:
        self.q = q
        keys = {s.name: f"{q.name}.{s.name}".lower() for s in q.steps}
        self.steps = {keys[s.name]: s for s in q.steps}
        self.every = frozenset(self.steps)
        self.initial = frozenset(k for k in self.every if k == f"{q.name}.{q.initial}".lower())
        self.ranked = sorted(q.transitions, key=lambda t: (t.priority is None, t.priority or 0))
        self.leaving: dict[str, list[int]] = {}
        for n, t in enumerate(self.ranked):
            for source in t.sources:
                self.leaving.setdefault(keys.get(source, source), []).append(n)
        self.order = {k: n for n, k in enumerate(self.steps)}
        self.edged = [n for n, t in enumerate(self.ranked) if _EDGE.search(t.condition)]
        self.permissive = {s.name.lower(): s for s in q.steps if s.permissive.strip()}
        self.edged_permissive = {n for n, s in self.permissive.items() if _EDGE.search(s.permissive)}

    def entered(self, found: _Parts, keys: frozenset[str]) -> None:
        """What matters of it where these steps are entered."""
        q = self.q
        for key in sorted(keys, key=self.order.__getitem__):
            found.put(f"step {q.name}.{self.steps[key].name}", _step(self.steps[key]))
        asked = sorted({n for key in keys for n in self.leaving.get(key, ())})
        into = {name.lower() for n in asked for name in self.ranked[n].targets}
        for name, s in self.permissive.items():
            if name in into or name in self.edged_permissive:
                found.put(f"permissive of {q.name}.{s.name}", repr(code(s.permissive)))
        for n in sorted({*asked, *self.edged}):
            found.put(f"transition {_between(q, self.ranked[n])}", repr(code(self.ranked[n].condition)))
        found.put(f"{ORDER}the ways of {q.name}", repr([_between(q, self.ranked[n]) for n in asked]))


class _Index:
    """What is said of the parts of a machine file, whatever a run has entered."""

    def __init__(self, p: Project) -> None:
        self.project = p
        self.always = list(_always(p))
        self.sequences = [_Flow(q) for q in p.sequences]
        self.machine = [
            (f"device {d.name}", repr((d.kind, d.wires, d.parameters, d.declared, code(d.text)))) for d in p.devices
        ]
        self.machine += [
            (f"line from {c.source} to {c.target}", repr((c.gives, c.takes))) for c in p.connections if c.gives
        ]
        self.machine.append((f"{ORDER}devices", repr([d.name for d in p.devices])))
        self.known: dict[str, list[tuple[str, str]]] = {}
        for name, words, what in _declared(p):
            self.known.setdefault(name.lower(), []).append((words, repr(what)))


_indexes: list[_Index] = []
_KEPT = 3
"""Machine files of which the index is kept: all verdicts are held against one after each edit."""


def _index_of(project: Project) -> _Index:
    for index in _indexes:
        if index.project is project:
            return index
    _indexes.insert(0, _Index(project))
    del _indexes[_KEPT:]
    return _indexes[0]


def _always(p: Project) -> Iterator[tuple[str, str]]:
    """What runs in every scan."""
    yield "the scan period", repr(p.period_ms)
    for words, text in (
        ("the opening logic", p.opening),
        ("the closing logic", p.closing),
        ("the reset", p.reset),
        ("home", p.home),
    ):
        if code(text):
            yield words, repr(code(text))
    for q in p.sequences:
        bodies = [(b.name, code(b.text)) for b in q.bodies]
        yield (
            f"sequence {q.name}",
            repr((q.initial, code(q.hold_when), q.hold_outputs, code(q.restart_when), q.retain, bodies)),
        )
    targets = {a.target.lower() for q in p.sequences for s in q.steps for a in s.actions}
    yield "the variables that steps act on", repr(sorted(targets))
    for lock in p.interlocks:
        yield f"interlock of {lock.output}", repr((lock.output, code(lock.condition)))
    for pair in p.opposed:
        yield f"opposed pair {pair.first}, {pair.second}", repr((pair.first, pair.second, pair.dead_ms))
    for t in p.trips:
        yield (
            f"trip {t.name}",
            repr(
                (t.rank, code(t.condition), t.scope, t.latching, t.steps, t.go_to, t.stored, t.times, t.zeroed, t.stays)
            ),
        )
    for a in p.alarms:
        yield f"alarm {a.on or a.name}", repr((code(a.condition), a.text, code(a.delay), a.device))
    yield f"{ORDER}sequences and trips", repr(([q.name for q in p.sequences], [t.name for t in p.trips]))


def _declared(p: Project) -> Iterator[tuple[str, str, object]]:
    """What is declared by name: the name, words, and what it is."""
    for s in p.signals:
        yield s.name, f"signal {s.name}", (str(s.cls), str(s.type), s.initial, s.home, s.contact, s.retain)
    for table in p.tables:
        yield table.name, f"table {table.name}", replace(table, comment="")
    for r in p.routines:
        words = f"{'block' if r.is_block else 'function'} {r.name}"
        yield r.name, words, replace(r, comment="", text=code(r.text))
    for i in p.instances:
        yield i.name, f"instance {i.name}", i
    for q in p.sequences:
        for step in q.steps:
            yield step.name, f"the name of step {q.name}.{step.name}", ""


@lru_cache(maxsize=50_000)
def _step(s: Step) -> str:
    """What matters of a step that is entered."""
    actions = [(str(a.qualifier), a.target, code(a.time)) for a in s.actions]
    return repr((s.number, actions, code(s.longest), code(s.shortest), s.response))


def _between(q: Sequence, t: Transition) -> str:
    """`Main: Open + Wait to Close`, the ends of a transition."""
    return f"{q.name}: {' + '.join(t.sources)} to {' + '.join(t.targets)}"
