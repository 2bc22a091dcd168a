"""One program of a text that has states: lifted to sequences, or kept as text with a chart that follows it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.choices import Choices, Lifted, Note
from spokeshave.formats.states.find import Finder, Found, Machine
from spokeshave.formats.states.flow import Flow
from spokeshave.formats.states.lift import Lifter
from spokeshave.language.rename import rename_many
from spokeshave.language.syntax import KEYWORDS
from spokeshave.model.edits import free_name
from spokeshave.model.project import Instance, Sequence, Signal, SignalClass, Step, Transition, Type

MOST_WAYS = 2000
"""Ways of a chart that follows a text: those between 45 states, each of which may lead to each."""


@dataclass(frozen=True, slots=True)
class StateProgram:
    """A program with states. `text` is its own text, `at` how many sequences stand before it, `whole` the file. `beside` is what
    was found with the states inside other ones as machines of their own; None where there are none.
    """

    found: Found
    finder: Finder
    text: str
    at: int
    whole: str
    beside: Found | None = None
    flags: Mapping[str, Signal] = field(default_factory=dict)
    """Flags that are states, as the text declares them, by their names in lower case."""

    @property
    def _machines(self) -> list[Machine]:
        return [*self.found.machines, *(self.beside.machines if self.beside is not None else ())]

    def words(self, taken: set[str]) -> dict[str, str]:
        """Other names for variables of the state that are words of the language, such as `Step`."""
        names = {n for m in self._machines for n in (m.var, m.next) if n.upper() in KEYWORDS}
        return {n: free_name(f"The_{n}", taken) for n in sorted(names)}

    @property
    def states(self) -> dict[str, str]:
        """The variable that has the state at the end of a scan, by the name of the sequence in lower case."""
        words = self.words({*self.finder.signals})
        return {m.name.lower(): words.get(m.next, m.state.name) for m in self._machines}

    def lift(
        self, signals: dict[str, Signal], instances: dict[str, Instance], period_ms: int, choices: Choices
    ) -> Lifted:
        """Its sequences and the logic around them, in the form of `choices`."""
        found = self.beside if self.beside is not None and choices.nested else self.found
        lifter = Lifter(found, self.whole, signals, instances, self.finder.constants, period_ms, choices)
        lifted = lifter.lift()
        if found is self.beside:
            outer = {m.var for m in self.found.machines}
            for m in found.machines:
                if m.var not in outer:
                    lifted.notes.append(
                        Note(m.span.line, f"{m.name}, inside a state of another, is a sequence beside that")
                    )
        return lifted

    def keep(self, taken: set[str]) -> tuple[Lifted, list[Signal]]:
        """The text as opening logic, and charts that follow its states; with the variables that this needs."""
        lifted, more = Lifted(), list[Signal]()
        started = free_name(f"{self.found.machines[0].name}_Started", taken)
        follows = {m.next for m in self.found.machines}  # another variable comes in the place of these
        words = {low: new for low, new in self.words(taken).items() if low not in follows}
        more += [replace(self.finder.signals[low], name=new) for low, new in words.items()]
        lifted.gone |= set(words)
        before = []
        for m in self.found.machines:
            follow = free_name(f"{m.name}_Next", taken)
            more.append(Signal(follow, SignalClass.INTERNAL, m.state.type, initial=m.state.initial))
            words[m.next] = follow
            labels = {s.name.lower(): str(s.number) for s in m.states.values()}
            labels = {low: n for low, n in labels.items() if low in self.finder.constants}
            words |= labels
            state = f"{m.name}.State" if m.state.type is Type.DINT else f"DINT_TO_INT({m.name}.State)"
            before.append(f"{follow} := {state};")
            lifted.sequences.append(self._following(m, follow))
            lifted.gone.add(m.next)
            lifted.gone |= set(labels)
            lifted.notes.append(
                Note(m.span.line, f"{m.name} follows the state of the text, which stays as opening logic")
            )
            lifted.spots += [("step", m.name, s.name, -1, s.span) for s in m.states.values()]
        more.append(Signal(started, SignalClass.INTERNAL))
        for low, flag in self.flags.items():  # its name is that of a step
            words[low] = free_name(f"{flag.name}_Flag", taken)
            more.append(replace(flag, name=words[low]))
        inner = rename_many(self.text, words)
        lifted.opening = "\n".join([*before, f"IF {started} THEN", inner, "END_IF;", f"{started} := TRUE;"])
        return lifted, more

    def _following(self, m: Machine, follow: str) -> Sequence:
        """A chart that goes wherever a scan of the text can lead."""
        flow = Flow(m, self.found.around, self.finder.constants, False)
        pairs = {n: {x.target for x in flow.moves(n)} for n in m.branches}
        if m.passes:
            pairs = _passing(pairs, m)
        start = int(m.state.start if m.var == m.next else self.finder.signals[m.var].start)
        ways = [
            Transition((m.states[n].name,), (m.states[to].name,), f"{follow} = {to}")
            for n in m.branches
            for to in m.branches
            if to in pairs[n] and to != n
        ]
        steps = tuple(Step(s.name, s.number, comment=s.comment) for s in m.states.values())
        return Sequence(m.name, m.states[start].name, steps, tuple(ways))


def _passing(pairs: dict[int, set[int]], m: Machine) -> dict[int, set[int]]:
    """Where a scan can lead that may pass several states. Raises `FormatError` where those are more ways than a chart can show."""
    found: dict[int, set[int]] = {}
    left = MOST_WAYS
    for n in pairs:
        found[n] = set(_behind(pairs, n))
        left -= len(found[n])
        if left < 0:
            place = m.span
            raise FormatError(
                f"one scan may pass several of these {len(pairs)} states, which leads from each to nearly every other one",
                line=place.line,
                column=place.column,
                advice="write ELSIF, or a CASE, so that a scan passes one state",
            )
    return found


def _behind(pairs: dict[int, set[int]], n: int) -> Iterator[int]:
    """Every state that can be come to from one."""
    seen, todo = {n}, [n]
    while todo:
        for to in pairs[todo.pop()] - seen:
            seen.add(to)
            todo.append(to)
            yield to
