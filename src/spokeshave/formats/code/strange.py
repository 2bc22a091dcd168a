"""What is strange in an edited text of plain code with several threads: told where it stands, state by state and line by line."""

from __future__ import annotations

from collections.abc import Callable
from difflib import SequenceMatcher

from spokeshave.formats.code.branches import Apart, Arm, Branch, Parts, Thread, Words, bare, split, words
from spokeshave.formats.code.plain import PlainStyle
from spokeshave.formats.code.tokens import Token
from spokeshave.formats.code.write import Generated
from spokeshave.formats.errors import FormatError
from spokeshave.language.parse import parse_expression
from spokeshave.language.syntax import TextError
from spokeshave.model.project import Project, Sequence, Step

ModelText = Callable[[list[Token], str, dict[str, str]], str]
"""The words of a condition in the words of the model: words, the step's sequence, what clocks stand for."""


class Strangeness:
    """Looks at an edited text beside the code that it was. `model_text` puts a condition into the words of the model."""

    def __init__(self, text: str, start: int, end: int, code: Generated, model_text: ModelText) -> None:
        assert isinstance(code.maker, PlainStyle)
        self.text, self.start, self.end, self.code, self.model_text = text, start, end, code, model_text
        self.maker, self.fail = code.maker, Apart(text, code.maker).fail

    def told(self) -> FormatError | None:
        """The first thing that is strange; None where nothing is, or where conditions are worked out ahead of their states."""
        try:
            before = Apart(self.code.text, self.maker).parts(0, len(self.code.text))
        except FormatError:
            return None
        try:
            after = Apart(self.text, self.maker).parts(self.start, self.end)
            for q in self.code.project.sequences:
                self._states(q, {key: b for key, b in before.cases.items() if key[0] == q.name}, after)
            self._lines(before, after)
        except FormatError as error:
            return error
        return None

    def _states(self, q: Sequence, before: dict[Thread, dict[int, Branch]], after: Parts) -> None:
        taken = {s.name.lower() for s in self.code.project.signals} | {s.name.lower() for s in q.steps}
        there = {s.number for s in q.steps}
        for key, was in before.items():
            now = after.cases[key]
            for number, branch in now.items():
                if number in was:
                    continue
                if number in there:
                    raise self.fail(branch.label, f"{number} is a state of another thread", "take a free number")
                if branch.name.lower() in taken:
                    advice = "give the state another name in its comment"
                    raise self.fail(branch.label, f"there is a {branch.name} already", advice)
            there = there - (was.keys() - now.keys()) | now.keys()
        for key in before:
            for number, branch in after.cases[key].items():
                for arm in branch.arms:
                    self._way(arm, q, key, number, there)

    def _way(self, arm: Arm, q: Sequence, key: Thread, number: int, there: set[int]) -> None:
        for _, goes in arm.goes:
            if goes.isdigit() and int(goes) not in there:
                raise self.fail(arm.at, f"{goes} is no state", f"write a label {goes}: or lead it elsewhere")
        clock = self.maker.clock.get(key) or f"{self.maker.at[key]}T"
        step = next((s.name for s in q.steps if s.number == number), f"S{number}")
        if arm.at.word.upper() == "ELSE":
            return
        text = self.model_text(arm.condition, q.name, {clock.lower(): f"{q.name}.{step}.T"})
        try:
            parse_expression(text)
        except TextError as error:
            p = error.problems[0]
            raise self.fail(arm.condition[0], f"this is no condition: {p.message}", p.advice) from None

    def _lines(self, before: Parts, after: Parts) -> None:
        """A line that maps an output and speaks of something else than states."""
        was, now = ([words(c) for c in parts.around] for parts in (before, after))
        for kind, _, _, first, end in SequenceMatcher(None, was, now, autojunk=False).get_opcodes():
            for line in after.around[first:end] if kind != "equal" else ():
                said = words(line)
                old = next((w for w in was if w[:2] == said[:2]), None)
                if old is None or said[1:2] != (":=",):
                    continue
                for term in sorted(terms(said[2:-1]) - terms(old[2:-1])):
                    if self._state(self.code.project, term) is None:
                        message = f"{' '.join(term)} is no comparison with a state"
                        raise self.fail(line[0], message, "a mark is: state variable = number")

    def _state(self, project: Project, term: Words) -> Step | None:
        """The step that the last three words of a term compare with."""
        if len(term) < 3 or term[-2] != "=" or not term[-1].isdigit():
            return None
        name = next((key[0] for key, at in self.maker.at.items() if at.lower() == term[-3]), "")
        q = project.sequence(name) if name else None
        return next((s for s in q.steps if s.number == int(term[-1])), None) if q is not None else None


def terms(found: Words) -> set[Words]:
    """What is joined by OR in a mapping, each with what it is joined to by AND: `Acts AND (A = 1 OR A = 2)` has two."""
    out = set[Words]()
    for part in split(found, "or"):
        *before, last = split(part, "and")
        inner = split(bare(last), "or")
        prefix = tuple(w for p in before for w in (*p, "and"))
        out |= {(*prefix, *bare(term)) for term in inner if term not in ((), ("false",))}
    return out
