"""The charts whose plain code a text is."""

from __future__ import annotations

from dataclasses import replace
from textwrap import dedent

from spokeshave.formats.code.found.actions import in_place
from spokeshave.formats.code.found.protect import Protected, bare
from spokeshave.formats.code.found.states import LABEL, OPENING, SCAN_TIME, TOLD, OtherForm, Thread, label
from spokeshave.formats.code.tokens import tokens
from spokeshave.formats.code.write import generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.choices import Note
from spokeshave.language import LanguageError
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_statements
from spokeshave.model.project import Instance, Project, Sequence, Signal, Step, Transition

CLOSING = "(* end of closing logic *)"


def charts_of(
    text: str, start: int, end: int, project: Project, signals: dict[str, Signal], instances: dict[str, Instance]
) -> Project | None:
    """The machine file of which the statements from `start` to `end` are the plain code, None if there is none. `project` has what
    is declared beside signals and instances, which are all that the text has, those of the code too.
    """
    try:
        found = found_in(text[start:end], project, signals, instances)
        again = generate(found, "plain", SCAN_TIME in signals, apart=False).text
    except (OtherForm, LanguageError, FormatError, LookupError, ValueError):
        return None
    same = [t.word.lower() for t in tokens(text[start:end])] == [t.word.lower() for t in tokens(again)]
    return found if same else None


def found_in(text: str, project: Project, signals: dict[str, Signal], instances: dict[str, Instance]) -> Project:
    """What the statements of a text would be as charts, as far as their forms go: only what is written out again tells whether they
    are. Raises `OtherForm`, `LanguageError`, `LookupError` or `ValueError` for other forms.
    """
    return _Charts(text, project, signals, instances).project()


def steps_told(project: Project, text: str) -> list[Note]:
    """For each step of such a text the line at which it stands there."""
    said = [m for form in (LABEL, TOLD) for m in form.finditer(text)]
    lines = {m["name"].lower(): text.count("\n", 0, m.start("name")) + 1 for m in said}
    steps = [s for q in project.sequences for s in q.steps if s.name.lower() in lines]
    return [Note(lines[s.name.lower()], f"state {s.number} is step {s.name}") for s in steps]


class _Charts(Protected):
    """Takes all statements of a text."""

    def __init__(self, text: str, project: Project, signals: dict[str, Signal], instances: dict[str, Instance]) -> None:
        super().__init__(text, project, signals, instances)
        self.ways: dict[str, list[Transition]] = {}
        self.numbered: dict[str, dict[int, Transition]] = {}
        self.tests: dict[str, str] = {}
        """Conditions that are worked out before they are asked for."""

    def project(self) -> Project:
        """The machine file. Raises `OtherForm` and what it stumbles over."""
        at, last = self.text.find(OPENING), self.text.find(CLOSING)
        statements = parse_statements(self.text)
        self.take_states(statements)
        opening = closing = ""
        behind = 0
        for s in statements:
            line, behind = self.text.find("\n", behind) + 1 if behind else 0, s.span.end
            if s.span.start < at:
                if not opening and not self.ticks(s) and not self.protects(s):
                    opening = self.text[line:at]
                continue
            if 0 <= last < s.span.start:
                if not self._taken(s):
                    raise OtherForm(self.text_of(s))
                continue
            if not closing and not self._taken(s):
                if last < 0:
                    raise OtherForm(self.text_of(s))
                closing = self.text[line:last]
        sequences = tuple(self._sequence(name) for name in self.of)
        left = [s for low, s in self.signals.items() if low not in self.gone]
        blocks = [i for low, i in self.instances.items() if low not in self.gone]
        opening, closing = (self.spoken(dedent(x).strip("\n").rstrip(), "") for x in (opening, closing))
        return replace(
            self.base, name=sequences[0].name, signals=tuple(left), instances=tuple(blocks), sequences=sequences,
            opening=opening, closing=closing, trips=self.found_trips(), reset=self.reset, home=self.home,
            interlocks=tuple(self.interlocks), opposed=tuple(self.opposed),
        )  # fmt: skip

    def _sequence(self, name: str) -> Sequence:
        threads = self.of[name]
        first = threads[0].steps[int(self.signals[threads[0].at.lower()].start)]
        steps = sorted((s for t in threads for s in t.steps.values()), key=lambda s: s.number)
        made = tuple(
            replace(
                s,
                actions=in_place(self.marks.get((name, s.name), [])),
                longest=self.longest.get((name, s.name), ""),
                response=self.responses.get((name, s.name), "alarm"),
            )
            for s in steps
        )
        numbered = self.numbered.get(name, {})
        if sorted(numbered) != list(range(1, len(numbered) + 1)):
            raise OtherForm(name)
        ways = [numbered[k] for k in sorted(numbered)] or [
            w for s in steps for w in self.ways.get(f"{name}.{s.name}", ())
        ]
        retain = self.signals[threads[0].at.lower()].retain
        return Sequence(
            name, first.name, made, tuple(ways), tuple(self.bodies.get(name, ())), retain=retain,
            hold_when=self.holds.get(name, ""), restart_when=self.restarts.get(name, ""),
            hold_outputs="drop" if name in self.holds and f"{name}_keeps".lower() not in self.signals else "keep",
        )  # fmt: skip

    def _taken(self, s: sx.Statement) -> bool:
        """Takes a statement that is no closing logic."""
        if self.ticks(s):
            return True
        if isinstance(s, sx.BlockCall):
            return self.edge(s)
        inside = s.branches[0][1] if isinstance(s, sx.If) else (s,)
        cases = [x for x in inside if isinstance(x, sx.Case)]
        for x in cases:
            if str(x.selector).lower() in self.threads:
                self._case(x)
        if cases:
            return True
        if self.protects(s):
            return True
        if isinstance(s, sx.Assign):
            return self.is_kept(s) or self.mapped(s)
        return isinstance(s, sx.If) and len(s.branches) == 1 and not s.otherwise and self.acts(s)

    def _case(self, case: sx.Case) -> None:
        thread = self.threads[str(case.selector).lower()]
        for labels, inner in case.branches:
            step = thread.steps[label(labels)]
            for s in inner:
                if isinstance(s, sx.Assign):
                    self.tests[str(s.target).lower()] = self.text_of(s.value)
                    self.gone.add(str(s.target).lower())
            arms = [(self.text_of(c), b) for s in inner if isinstance(s, sx.If) for c, b in s.branches]
            arms += [("TRUE", s.otherwise) for s in inner if isinstance(s, sx.If) and s.otherwise]
            for n, (condition, block) in enumerate(arms, 1):
                number, effects = 0, block
                (first, *_) = block
                if (
                    isinstance(first, sx.Assign)
                    and str(first.target).lower() in self.gone
                    and "_way" in str(first.target).lower()
                ):
                    number = int(self.text_of(first.value))
                    mine = [x[number] for x in self.chosen.values() if number in x and self._home(x[number], thread)]
                    if not mine:
                        raise OtherForm(str(number))
                    effects = mine[0]
                way = self._way(thread, step, self.tests.get(condition.lower(), condition), effects)
                if number:  # its place in the chart says when it comes
                    self.numbered.setdefault(thread.sequence, {})[number] = way
                else:
                    way = replace(way, priority=n if len(arms) > 1 else None)
                    self.ways.setdefault(f"{thread.sequence}.{step.name}", []).append(way)

    def _home(self, effects: tuple[sx.Statement, ...], thread: Thread) -> bool:
        """Whether what a way does moves threads of the same sequence."""
        moved = {str(s.target).lower() for s in effects if isinstance(s, sx.Assign)}
        return any(self.threads[low].sequence == thread.sequence for low in moved & self.threads.keys())

    def _way(self, thread: Thread, step: Step, condition: str, effects: tuple[sx.Statement, ...]) -> Transition:
        mine = self.of[thread.sequence]
        sources = {thread.at: step}
        words = tokens(condition)
        while len(words) > 4 and words[1].word == "=" and words[3].word.upper() == "AND":
            other = next((t for t in mine if words[0].word.lower() in (t.at.lower(), f"{t.at}Was".lower())), None)
            if other is None or other is thread:
                break
            sources[other.at] = other.steps[int(words[2].word)]
            condition = condition[words[4].start :]
            words = tokens(condition)
        goes = {
            str(s.target).lower(): self.text_of(s.value)
            for s in effects
            if isinstance(s, sx.Assign) and str(s.target).lower() in self.threads
        }
        by_at = {t.at.lower(): t for t in mine}
        order = sorted(sources, key=lambda at: list(goes).index(at.lower()) if at.lower() in goes else 0)
        targets = [by_at[low].steps[int(n)].name for low, n in goes.items() if int(n) in by_at[low].steps]
        clocks = {f"{at}T".lower(): f"{s.name}.T" for at, s in sources.items()}
        text = self.spoken(bare(condition), thread.sequence, clocks)
        return Transition(tuple(sources[at].name for at in order), tuple(targets), text)
