"""Plain code of charts with several threads whose states were edited: a CASE each, and the lines below that map outputs.

The text is taken apart word by word: branches of each CASE, their conditions and where they lead, the marks in the lines that
map an output. What differs from the code as it was written is done to the model, and the model is written out again: only if
that says the same as the text is it taken over.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from difflib import SequenceMatcher
from itertools import zip_longest

from spokeshave.formats.code.branches import Apart, Arm, Branch, Parts, Thread, Words, bare, split, words
from spokeshave.formats.code.plain import PlainStyle
from spokeshave.formats.code.reshape import in_place
from spokeshave.formats.code.said import Said
from spokeshave.formats.code.styles import in_priority
from spokeshave.formats.code.tokens import Token
from spokeshave.formats.code.write import Generated, generate
from spokeshave.formats.errors import FormatError
from spokeshave.language.parse import parse_expression
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import line_and_column
from spokeshave.model.project import Action, Project, Qualifier, Sequence, Step, Transition

ModelText = Callable[[list[Token], str, dict[str, str]], str]
"""The words of a condition in the words of the model: words, the step's sequence, what clocks stand for."""

HARD = "conditions of this code are worked out ahead of their states"


class SideBySide(FormatError):
    """A way that opens or closes branches is another one: what becomes of that only the whole text tells."""


class Rethreader:
    """Takes an edited text over. `model_text` puts a condition into the words of the model."""

    def __init__(self, text: str, start: int, end: int, code: Generated, model_text: ModelText) -> None:
        assert isinstance(code.maker, PlainStyle)
        self.text, self.start, self.end, self.code, self.model_text = text, start, end, code, model_text
        self.maker, self.fail = code.maker, Apart(text, code.maker).fail
        self.said: list[Said] = []

    def done(self) -> tuple[Project, list[Said]]:
        """The machine file as the text has it, and what differs. Raises `FormatError` with line and column."""
        try:
            before = Apart(self.code.text, self.maker).parts(0, len(self.code.text))
        except FormatError:
            raise FormatError(HARD) from None
        after = Apart(self.text, self.maker).parts(self.start, self.end)
        project = self.code.project
        for q in project.sequences:
            threads = [t for t in before.cases if t[0] == q.name]
            if any(_says(before.cases[t]) != _says(after.cases[t]) for t in threads):
                new = self._sequence(project, q, threads, before, after)
                project = replace(project, sequences=tuple(new if x.name == q.name else x for x in project.sequences))
        project = self._marks(project, before, after)
        self._hold_against(project, before, after)
        return project, self.said

    # -- sequences

    def _sequence(self, project: Project, q: Sequence, threads: list[Thread], before: Parts, after: Parts) -> Sequence:
        steps = list(q.steps)
        in_branches = [t for key in threads for n in before.cases[key] for t in self._ways(q, key, n)]
        kept = [t for t in q.transitions if t not in in_branches]
        new_ways: dict[str, list[Transition]] = {}
        names = {s.number: s.name for s in q.steps}
        taken = {s.name.lower() for s in project.signals} | {s.name.lower() for s in q.steps}
        for key in threads:
            was, now = before.cases[key], after.cases[key]
            for number, branch in now.items():
                if number in was:
                    if branch.name and branch.name != names[number]:
                        raise self.fail(
                            branch.label,
                            f"step {number} is called {names[number]}",
                            "rename it in the chart or the sheet: all texts follow there",
                        )
                    continue
                if number in names:
                    raise self.fail(branch.label, f"{number} is a state of another thread", "take a free number")
                name = branch.name or f"S{number}"
                if name.lower() in taken:
                    raise self.fail(
                        branch.label, f"there is a {name} already", "give the state another name in its comment"
                    )
                names[number] = name
                steps.append(Step(name, number, comment=" ".join(branch.comment.split())))
                self.said.append(("step", name, "", f"step {number} {name} is new", q.name))
            for number in was.keys() - now.keys():
                if names[number] == q.initial:
                    raise self.fail(
                        self.start, f"{q.name} begins in {number}, which is gone", "a sequence needs its initial step"
                    )
                self.said.append(("step", names[number], f"step {number} {names[number]}", "is gone", q.name))
                steps = [s for s in steps if s.number != number]
        there = {s.number for s in steps}
        for key in threads:
            for number, branch in after.cases[key].items():
                new_ways[names[number]] = self._ways_of(q, key, number, names, there, before, branch)
        old_order = [t.sources for t in q.transitions]
        ways: list[Transition] = []
        placed = in_place(q, steps)
        for s in placed:
            ways += new_ways.get(s.name, [])
        for t in kept:
            at = sum(
                1 for w in ways if w.sources in old_order and old_order.index(w.sources) < old_order.index(t.sources)
            )
            ways.insert(at, t)
        lost = [t for t in ways for n in (*t.sources, *t.targets) if n not in {s.name for s in steps}]
        if lost:
            raise self.fail(self.start, f"a way still leads from or to {', '.join((*lost[0].sources, *lost[0].targets))}, of which one is gone",
                            "lead it elsewhere first")  # fmt: skip
        return replace(q, steps=tuple(placed), transitions=tuple(ways))

    def _ways(self, q: Sequence, key: Thread, number: int) -> list[Transition]:
        """The transitions that stand in a branch, in the order of its arms."""
        of = self.maker.threads[q.name].of
        order = [i for i in in_priority(q) if all(s in of for s in q.transitions[i].sources)]
        step = next((s.name for s in q.steps if s.number == number and of.get(s.name) == key[1]), "")
        return [q.transitions[i] for i in order if min(q.transitions[i].sources, key=lambda s: of[s]) == step]

    def _ways_of(
        self, q: Sequence, key: Thread, number: int, names: dict[int, str], there: set[int], before: Parts, branch: Branch
    ) -> list[Transition]:  # fmt: skip
        mine = self._ways(q, key, number) if number in before.cases[key] else []
        was = before.cases[key][number].arms if number in before.cases[key] else []
        left = dict(enumerate(was))
        at = self.maker.at[key].lower()
        out: list[Transition] = []
        for n, arm in enumerate(branch.arms):
            same = next((i for i, a in left.items() if a.key == arm.key), None)
            if same is not None:
                del left[same]
                out.append(mine[same])
                continue
            for _, goes in arm.goes:
                if goes.isdigit() and int(goes) not in there:
                    raise self.fail(arm.at, f"{goes} is no state", f"write a label {goes}: or lead it elsewhere")
            if len(arm.goes) != 1 or arm.goes[0][0] != at or not arm.goes[0][1].isdigit():
                raise self._side_by_side(arm.at, "this way moves several threads at once, or by a computed number")
            target = int(arm.goes[0][1])
            had = next(
                (i for i, a in left.items() if a.goes == arm.goes),
                n if n in left and len(was) == len(branch.arms) else None,
            )
            otherwise = arm.at.word.upper() == "ELSE"
            text = "TRUE" if otherwise else self._condition(arm, q, key, names[number])
            old = mine[had] if had is not None else None
            if had is not None:
                del left[had]
            if old is not None and (len(old.sources) > 1 or len(old.targets) > 1):
                raise self._side_by_side(arm.at, "this way joins or opens branches that run side by side")
            told = f"{number} leads to {_number(q, old.targets[0])} if {old.condition}" if old is not None else ""
            self.said.append(("step", names[number], told, f"{number} leads to {target} if {text}", q.name))
            label = old.name if old is not None else ""
            out.append(
                Transition((names[number],), (names[target],), text, None if old is None else old.priority, label)
            )
        for i in left:
            t = mine[i]
            if len(t.sources) > 1 or len(t.targets) > 1:
                raise self._side_by_side(branch.label, f"a way out of {number} that joins or opens branches is gone")
            self.said.append(
                (
                    "step",
                    names[number],
                    f"{number} leads to {_number(q, t.targets[0])} if {t.condition}",
                    "no longer",
                    q.name,
                )
            )
        moved = [t for t in mine if t in out] != [t for t in out if t in mine]
        numbered = moved or any(t.priority is not None for t in out)
        if moved:
            self.said.append(("step", names[number], "", f"the ways out of {number} are in another order", q.name))
        if numbered and len(out) > 1:
            out = [replace(t, priority=n) for n, t in enumerate(out, 1)]
        return out

    def _condition(self, arm: Arm, q: Sequence, key: Thread, step: str) -> str:
        """The condition of a way in the words of the model."""
        text = self.model_text(arm.condition, q.name, self._clocks(q, key, step))
        try:
            parse_expression(text)
        except TextError as error:
            raise self.fail(
                arm.condition[0], f"this is no condition: {error.problems[0].message}", error.problems[0].advice
            ) from None
        return text

    def _clocks(self, q: Sequence, key: Thread, step: str) -> dict[str, str]:
        clock = self.maker.clock.get(key) or f"{self.maker.at[key]}T"
        return {clock.lower(): f"{q.name}.{step}.T"}

    def _side_by_side(self, at: Token, message: str) -> SideBySide:
        line, column = line_and_column(self.text, at.start)
        return SideBySide(
            message,
            line=line,
            column=column,
            advice="branches that run side by side are opened and closed in the chart",
        )

    # -- marks

    def _marks(self, project: Project, before: Parts, after: Parts) -> Project:
        was, now = ([words(c) for c in parts.around] for parts in (before, after))
        matcher = SequenceMatcher(None, was, now, autojunk=False)
        for kind, a, a_end, b, b_end in matcher.get_opcodes():
            if kind == "equal":
                continue
            for old, new in zip_longest(before.around[a:a_end], after.around[b:b_end]):
                project = self._mapped(project, old, new)
        return project

    def _mapped(self, project: Project, old: list[Token] | None, new: list[Token] | None) -> Project:
        """A line that maps an output, with other states in it."""
        if new is None:
            said = " ".join(t.word for t in (old or [])[:6])
            raise self.fail(
                self.end,
                f"the line {said} ... is gone",
                "write it again; a mark goes when its state is taken out of the line",
            )
        said_new, place = words(new), new[0]
        if len(said_new) < 4 or said_new[1] != ":=" or (old is not None and words(old)[:2] != said_new[:2]):
            advice = "states, their ways out and marks are read back here; take other edits over by themselves"
            raise self.fail(place, f"{place.word} stands where the code has something else", advice)
        asked = {name.lower(): self.maker.words.output(name) for name in self.maker.words.asked.values()}
        signal = project.signal(asked.get(said_new[0], said_new[0]))
        acted = {a.target.lower() for q in project.sequences for s in q.steps for a in s.actions}
        if signal is None or (old is None and signal.name.lower() in acted):
            raise self.fail(
                place, f"{place.word} is not mapped here", "a mark is a comparison in the line of its output"
            )
        before, after = (_terms(words(c)[2:-1]) if c is not None else set[Words]() for c in (old, new))
        for term in sorted(before ^ after):
            found = self._state(project, term)
            if found is None and term in before and self._state(self.code.project, term) is not None:
                continue  # its state is gone
            if found is None:
                raise self.fail(
                    place, f"{' '.join(term)} is no comparison with a state", "a mark is: state variable = number"
                )
            project = self._mark(project, *found, signal.name, term in after, place)
        return project

    def _mark(self, project: Project, q: Sequence, step: Step, name: str, on: bool, place: Token) -> Project:
        left = tuple(a for a in step.actions if a.target.lower() != name.lower() or a.qualifier is not Qualifier.N)
        actions = (*left, Action(Qualifier.N, name)) if on else left
        if not on and left == step.actions:
            raise self.fail(place, f"step {step.name} has no plain mark of {name}", "edit it in the sheet")
        word = "also" if on else "no longer"
        self.said.append(("step", step.name, "" if on else name, f"{name} {word} in {step.number}", q.name))
        steps = tuple(replace(s, actions=actions) if s.name == step.name else s for s in q.steps)
        new = replace(q, steps=steps)
        return replace(project, sequences=tuple(new if x.name == q.name else x for x in project.sequences))

    def _state(self, project: Project, term: Words) -> tuple[Sequence, Step] | None:
        """The step that the last three words of a term compare with."""
        if len(term) < 3 or term[-2] != "=" or not term[-1].isdigit():
            return None
        name = next((key[0] for key, at in self.maker.at.items() if at.lower() == term[-3]), "")
        q = project.sequence(name) if name else None
        step = next((s for s in q.steps if s.number == int(term[-1])), None) if q is not None else None
        return None if q is None or step is None else (q, step)

    # -- against what comes of it

    def _hold_against(self, project: Project, before: Parts, after: Parts) -> None:
        """Raises `FormatError` where the model, written out again, does not say what the text says."""
        again = generate(project, "plain")
        assert isinstance(again.maker, PlainStyle)
        made = Apart(again.text, again.maker).parts(0, len(again.text))
        for key, branches in after.cases.items():
            other = made.cases.get(key, {})
            for number, branch in branches.items():
                if number not in other or [a.key for a in other[number].arms] != [a.key for a in branch.arms]:
                    raise self.fail(
                        branch.label,
                        f"what state {number} says cannot be taken over as it stands",
                        "edit it in the chart or the sheet",
                    )
            if other.keys() - branches.keys():
                raise self.fail(
                    self.start,
                    f"the states {sorted(other.keys() - branches.keys())} would stay",
                    "edit it in the chart or the sheet",
                )


def _terms(found: Words) -> set[Words]:
    """What is joined by OR in a mapping, each with what it is joined to by AND: `Acts AND (A = 1 OR A = 2)` has two."""
    out = set[Words]()
    for part in split(found, "or"):
        *before, last = split(part, "and")
        inner = split(bare(last), "or")
        prefix = tuple(w for p in before for w in (*p, "and"))
        out |= {(*prefix, *bare(term)) for term in inner if term not in ((), ("false",))}
    return out


def _says(branches: dict[int, Branch]) -> list[tuple[int, str, list[object]]]:
    return [(n, b.name, [a.key for a in b.arms]) for n, b in branches.items()]


def _number(q: Sequence, name: str) -> int:
    step = q.step(name)
    return step.number if step is not None else -1
