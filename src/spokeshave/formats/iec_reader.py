"""The parts of an IEC text: variables into signals, programs with charts into sequences, other programs into logic."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace

from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_routines import RoutineReader
from spokeshave.formats.iec_variables import VARIABLES
from spokeshave.formats.states.choices import Choices, Note
from spokeshave.formats.states.copied import on_what_is_copied
from spokeshave.formats.states.find import Finder
from spokeshave.formats.states.flags import flags_as_states
from spokeshave.formats.states.fold import read_by, written_by
from spokeshave.formats.states.gathered import calls_gathered
from spokeshave.formats.states.nested import nested_apart
from spokeshave.formats.states.program import StateProgram
from spokeshave.language import syntax as sx
from spokeshave.language.references import Where
from spokeshave.language.rename import in_sequence, rename_many
from spokeshave.language.syntax import KEYWORDS
from spokeshave.language.tokens import END, INT, NAME, TIME
from spokeshave.model.diagnostics import several
from spokeshave.model.edits import free_name
from spokeshave.model.project import (
    Action,
    Body,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
)

_ELEMENTS = ("STEP", "INITIAL_STEP", "TRANSITION", "ACTION")
_PERIOD = re.compile(r"task period (?:of |is )?([0-9]{1,6}) ?ms", re.IGNORECASE)


@dataclass
class Reader(RoutineReader):
    """Goes through the words of a text; what it has found stands in its fields."""

    surrounded: bool = False
    """Whether states with statements beside them are a sequence too: where there is no other."""
    named: frozenset[str] = frozenset()
    """Variables of a state, in lower case, that say what their sequence is called even if it is the only one."""
    sequences: list[Sequence] = field(default_factory=list)
    opening: str = ""
    closing: str = ""
    cases: list[StateProgram] = field(default_factory=list)
    flags: dict[str, Signal] = field(default_factory=dict)
    """Flags that are states now, as the text declares them."""
    notes: list[Note] = field(default_factory=list)
    """What became of the parts of state programs, from the last call of `project`."""
    # -- the file

    def file(self) -> None:
        """All of it. Raises `DoesNotFit`, `TextError`, `FormatError`."""
        while self.next != END:
            if self.next in VARIABLES:
                self.var_block()
            elif self.next == "TYPE":
                self.type_block()
            elif self.next in ("FUNCTION", "FUNCTION_BLOCK"):
                self.routine()
            else:
                self.program()
        for i in self.external:
            if self.tokens.word(i).lower() not in {*self.signals, *self.tables, *self.instances}:
                name = self.tokens.word(i)
                raise self.fail(i, f"{name} is VAR_EXTERNAL, and declared nowhere", "declare it in VAR_GLOBAL")

    # -- programs

    def program(self) -> None:
        p = self.parser
        p.take("PROGRAM", "PROGRAM, or a block of variables such as VAR_INPUT")
        name_at = p.name_at()
        name = self.tokens.word(name_at)
        while self.next in VARIABLES:
            self.var_block()
        if self.next in _ELEMENTS:
            self.chart(name_at)
            return
        before = p.at - 1
        statements = p.statements()
        if statements and self.next in _ELEMENTS:
            raise self.fail(before + 1, "statements beside the chart", "put them into a PROGRAM of their own before it")
        end = p.take("END_PROGRAM")
        text = self.between(before, end)
        if self.state_program(name, statements, text):
            return
        where = "closing" if self.sequences or self.cases else "opening"
        had = self.closing if where == "closing" else self.opening
        self.text_origin(where, "", "", before, lines=had.count("\n") + 1 if had else 0)
        if where == "closing":
            self.closing = f"{had}\n{text}".strip()
        else:
            self.opening = f"{had}\n{text}".strip()

    def state_program(self, name: str, statements: tuple[sx.Statement, ...], text: str) -> bool:
        """Takes a program that is one CASE on a state, with `surrounded` also one with more beside it; FALSE for any other
        text.
        """

        def fail(span: sx.Span, message: str, advice: str) -> FormatError:
            return FormatError(message, line=span.line, column=span.column, advice=advice)

        finder = Finder(name, self.text, dict(self.signals), fail, self.instances, self.named)
        if not self.surrounded and (len(statements) != 1 or not isinstance(statements[0], sx.Case)):
            return False
        gathered = on_what_is_copied(calls_gathered(statements))
        found, beside, flags = finder.find(gathered), None, dict[str, Signal]()
        if not found.machines and (flagged := flags_as_states(gathered, self.signals)) is not None:
            flags = {low: self.signals[low] for low in flagged.labels}
            self.flags |= flags
            line = self.origins.found[("signal", "", next(iter(flagged.labels)), -1)][0][1][0]
            self.told.append(
                (line, f"{several(s.name for s in flagged.labels.values())} are steps: one of them is TRUE")
            )
            self.signals |= {**flagged.labels, flagged.state.name.lower(): flagged.state}
            finder = Finder(name, self.text, dict(self.signals), fail, self.instances, self.named)
            gathered, text = flagged.statements, f"{text}\n{flagged.last}"
            found = finder.find(gathered)
        if not found.machines:
            return False
        if (apart := nested_apart(gathered, finder.numbers)) != gathered:
            with suppress(FormatError):  # inner states that cannot be read stay what the outer one does
                beside = finder.find(apart)
        self.signals |= {low: s for low, s in finder.signals.items() if self.signals[low].initial != s.initial}
        self.guess_classes(read_by(statements), written_by(statements))
        finder.signals.update(self.signals)
        self.cases.append(StateProgram(found, finder, text, len(self.sequences), self.text, beside, flags))
        return True

    def project(self, choices: Choices | None = None) -> Project:
        """The machine file, its state programs in the form of `choices`; without them their text is kept."""
        signals, instances = dict(self.signals), dict(self.instances)
        opening, closing = self.opening, self.closing
        sequences, more = list(self.sequences), 0
        self.notes = [Note(line, text) for line, text in self.told]
        for p in self.cases:
            if choices is None:
                lifted, added = p.keep({*signals, *instances})
                signals |= {s.name.lower(): s for s in added}
            else:
                lifted = p.lift(signals, instances, self.period_ms, choices)
                signals |= {s.name.lower(): s for s in lifted.more}
            speak = lifted.speaks

            def put(text: str, _: Where, speak: Callable[[str], str] = speak) -> str:
                return speak(text)

            opening, closing = (
                f"{speak(a)}\n{b}".strip() for a, b in ((opening, lifted.opening), (closing, lifted.closing))
            )
            sequences = [in_sequence(q, put) for q in sequences]
            sequences[p.at + more : p.at + more] = lifted.sequences
            more += len(lifted.sequences)
            for name in lifted.gone | self._idle():
                signals.pop(name, None)
                instances.pop(name, None)
            self.notes += lifted.notes
            self._refuse_words(signals)
            for kind, sequence, item, index, span in lifted.spots:
                self.origins.add(kind, sequence, item, index, (span.line, span.column))
        program = self.cases[0].finder.name if self.cases and len(sequences) > 1 else sequences[0].name
        return Project(
            program, self.period_ms, signals=tuple(signals.values()), instances=tuple(instances.values()),
            tables=tuple(self.tables.values()), routines=tuple(self.routines.values()), opening=opening, closing=closing, sequences=tuple(sequences),
        )  # fmt: skip

    @property
    def period_ms(self) -> int:
        """The task period that a comment at the head says, else the usual one."""
        found = _PERIOD.search(self.text, 0, self.tokens.starts[0])
        return int(found[1]) if found and int(found[1]) > 0 else Project().period_ms

    def _idle(self) -> set[str]:
        """Variables beside inputs and outputs that no statement of the file speaks of."""
        words = Counter(self.tokens.word(i).lower() for i, kind in enumerate(self.tokens.kinds) if kind == NAME)
        mine = [low for low, s in self.signals.items() if s.cls is SignalClass.INTERNAL and not s.address]
        return {low for low in (*mine, *self.instances) if words[low] == 1}

    def _refuse_words(self, signals: dict[str, Signal]) -> None:
        """A state may be called `Step`, since its variable goes; another variable may not."""
        for s in signals.values():
            if s.name.upper() in KEYWORDS:
                line, column = self.origins.found[("signal", "", s.name.lower(), -1)][0][1]
                raise FormatError(
                    f"{s.name} is a word of the language",
                    line=line,
                    column=column,
                    advice="choose another name for this variable",
                )

    def as_written(self, at_once: bool = False) -> Project:
        """The file with its state programs as opening logic. In the first scan they do nothing, as a sequence does not evolve,
        unless they run `at_once` or know of the first scan themselves.
        """
        taken = {*self.signals, *self.instances}
        started = free_name("Started", taken)
        words = {n: p.words(taken) for n, p in enumerate(self.cases)}
        texts = "\n".join(rename_many(p.text, words[n]) for n, p in enumerate(self.cases))
        named = {low: new for mine in words.values() for low, new in mine.items()}
        if not at_once and not all(p.found.first for p in self.cases):
            texts = f"IF {started} THEN\n{texts}\nEND_IF;\n{started} := TRUE;"
        logic = f"{self.opening}\n{texts}"
        signals = (*(replace(s, name=named.get(low, s.name)) for low, s in (self.signals | self.flags).items()),
                   Signal(started, SignalClass.INTERNAL))  # fmt: skip
        return Project(
            "Text", self.period_ms, signals=signals, instances=tuple(self.instances.values()),
            tables=tuple(self.tables.values()), routines=tuple(self.routines.values()),
            opening=logic, closing=self.closing, sequences=tuple(self.sequences),
        )  # fmt: skip

    def as_called(self, inside: Project, at_once: bool = False) -> Project:
        """This text, whose programs call blocks with states, as it stands; `inside` is the one with the blocks written into it, which
        tells what its variables are. `at_once` as in `as_written`.
        """
        known = {s.name.lower(): s for s in inside.signals}
        signals = [*(known.get(low, s) for low, s in self.signals.items()), inside.signals[-1]]
        started = inside.signals[-1].name
        logic = self.opening if at_once else f"IF {started} THEN\n{self.opening}\nEND_IF;\n{started} := TRUE;"
        return replace(
            inside, signals=tuple(signals), instances=tuple(self.instances.values()),
            routines=tuple(self.routines.values()),
            opening=logic, closing=self.closing,
        )  # fmt: skip

    # -- charts

    def chart(self, name_at: int) -> None:
        """A program with steps, transitions and actions."""
        p, name = self.parser, self.tokens.word(name_at)
        if any(q.name.lower() == name.lower() for q in self.sequences):
            raise self.fail(name_at, f"there are two programs {name}")
        self.origin("sequence", "", name, name_at)
        steps: dict[str, Step] = {}
        ways: list[tuple[Transition, list[int]]] = []
        bodies: dict[str, Body] = {}
        initial = -1
        while self.next in _ELEMENTS:
            kind = self.next
            p.at += 1
            if kind == "TRANSITION":
                ways.append(self.transition(name, len(ways)))
                continue
            own_at = p.name_at()
            own = self.tokens.word(own_at)
            colon = p.take(":")
            if kind == "ACTION":
                if own.lower() in bodies:
                    raise self.fail(own_at, f"there are two actions {own} in {name}")
                p.statements()
                self.text_origin("body", name, own, colon)
                bodies[own.lower()] = Body(own, self.between(colon, p.take("END_ACTION")))
                continue
            if own.lower() in steps:
                raise self.fail(own_at, f"there are two steps {own} in {name}")
            if kind == "INITIAL_STEP":
                if initial >= 0:
                    first = self.tokens.word(initial)
                    raise self.fail(own_at, f"{name} has two initial steps", f"{first} is one already")
                initial = own_at
            self.origin("step", name, own, own_at)
            blocks = []
            while not p.skip("END_STEP"):
                blocks.append(self.block(name, own))
            steps[own.lower()] = Step(own, 0, tuple(blocks))
        begins = p.at
        p.statements()
        end = p.take("END_PROGRAM")
        if end > begins:
            raise self.fail(begins, "statements beside the chart", "put them into an ACTION, or a PROGRAM of their own")
        if initial < 0:
            raise self.fail(name_at, f"{name} has no initial step", "write INITIAL_STEP for the step it starts in")
        numbers = step_numbers([s.name for s in steps.values()])
        listed = tuple(replace(s, number=n) for s, n in zip(steps.values(), numbers))
        spelt = {low: s.name for low, s in steps.items()}
        transitions = tuple(self.between_steps(t, ends, spelt, name) for t, ends in ways)
        self.sequences.append(Sequence(name, self.tokens.word(initial), listed, transitions, tuple(bodies.values())))

    def block(self, sequence: str, step: str) -> Action:
        """`Target(S);`, `Target(L, T#2s);`"""
        p = self.parser
        target_at = p.name_at("the target of an action, or END_STEP")
        target = self.tokens.word(target_at)
        p.take("(")
        kind, time, kind_at = Qualifier.N, "", p.at
        if self.next == NAME:
            word = p.name().upper()
            try:
                kind = Qualifier(word)
            except ValueError:
                raise self.fail(kind_at, f"{word} is not an action qualifier",
                                f"use one of {', '.join(Qualifier)}") from None  # fmt: skip
            if p.skip(","):
                time = self.tokens.word(p.take(NAME if self.next == NAME else TIME, "a time such as T#2s"))
        p.take(")")
        p.take(";", "a semicolon")
        if kind.timed and not time:
            raise self.fail(target_at, f"{kind} needs a time", f"for example {target}({kind}, T#2s)")
        if time and not kind.timed:
            raise self.fail(target_at, f"{kind} takes no time")
        self.origin("action", sequence, f"{step} {target}", target_at)
        return Action(kind, target, time)

    def transition(self, sequence: str, index: int) -> tuple[Transition, list[int]]:
        """A transition with its ends as they are spelt, and the words they are."""
        p = self.parser
        name = p.name() if self.next == NAME else ""
        rank = None
        if p.skip("("):
            p.take("PRIORITY")
            p.take(":=")
            rank_at = p.take(INT, "a whole number")
            p.take(")")
            rank = self.rank(rank_at)
        p.take("FROM")
        sources = self.ends()
        p.take("TO")
        targets = self.ends()
        sign = p.take(":=")
        p.expression()
        text = self.between(sign, p.take(";", "a semicolon"))
        p.take("END_TRANSITION")
        self.text_origin("transition", sequence, "", sign, index)
        return Transition(
            tuple(map(self.tokens.word, sources)), tuple(map(self.tokens.word, targets)), text, rank, name
        ), [
            *sources,
            *targets,
        ]

    def rank(self, i: int) -> int:
        digits = self.tokens.word(i).replace("_", "")
        if len(digits) > 9:
            raise self.fail(i, f"priority {digits} is too large", "priorities are small whole numbers")
        return int(digits)

    def ends(self) -> list[int]:
        """The words of the steps before or behind a transition."""
        p = self.parser
        if not p.skip("("):
            return [p.name_at("the name of a step")]
        found = [p.name_at("the name of a step")]
        while p.skip(","):
            found.append(p.name_at("the name of a step"))
        p.take(")")
        return found

    def between_steps(self, t: Transition, ends: list[int], spelt: dict[str, str], program: str) -> Transition:
        """The transition with the names of its steps as the steps spell them."""
        for i in ends:
            if self.tokens.word(i).lower() not in spelt:
                raise self.fail(i, f"there is no step {self.tokens.word(i)} in {program}")
        names = [spelt[self.tokens.word(i).lower()] for i in ends]
        count = len(t.sources)
        return replace(t, sources=tuple(names[:count]), targets=tuple(names[count:]))


def step_numbers(names: list[str]) -> list[int]:
    """The numbers the names end in when all do and they differ and fit in DINT; else 10, 20, 30 ...

    >>> step_numbers(["S10", "S5"]), step_numbers(["Idle", "S5"])
    ([10, 5], [10, 20])
    """
    found = [re.search(r"[0-9]+$", n) for n in names]
    numbers = [int(m[0]) for m in found if m and len(m[0]) < 20]
    if len(numbers) == len(names) and len(set(numbers)) == len(numbers) and max(numbers, default=0) < 2**31:
        return numbers
    return [10 * (i + 1) for i in range(len(names))]
