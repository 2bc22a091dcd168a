"""What acts in the steps of plain code: mappings, what is stored, bodies, windows."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from textwrap import dedent

from spokeshave.formats.code.found.states import States, Thread
from spokeshave.formats.code.tokens import Token, tokens
from spokeshave.language import syntax as sx
from spokeshave.model.project import Action, Body, Instance, Project, Qualifier, Signal, Step
from spokeshave.model.qualifiers import By, Rule, When

_END = re.compile(r"\s*;?[ \t]*\(\* end of (?P<name>\w+) \*\)")
_QUALIFIERS = {q.rule: q for q in Qualifier}


@dataclass(frozen=True, slots=True)
class Term:
    """A part of a mapping: the step in which it acts, how, and its time."""

    thread: Thread
    step: Step
    rule: Rule
    time: str = ""
    place: int = -1
    """Among the blocks of its step, where the name of a variable tells it."""

    def action(self, target: str) -> Action:
        return Action(_QUALIFIERS[self.rule], target, self.time)


class Actions(States):
    """Takes statements that say what acts in which step."""

    def __init__(self, text: str, project: Project, signals: dict[str, Signal], instances: dict[str, Instance]) -> None:
        super().__init__(text, project, signals, instances)
        self.stored: dict[str, Term] = {}
        self.resets: dict[str, list[Term]] = {}
        self.longest: dict[tuple[str, str], str] = {}
        self.marks: dict[tuple[str, str], list[tuple[int, Action]]] = {}
        """The blocks of a step, each with its place where that is known."""
        self.bodies: dict[str, list[Body]] = {}
        self.latched: set[str] = set()
        """Variables that are set and reset themselves, in lower case."""

    def free(self, words: list[Token]) -> list[Token]:
        """Words without what asks whether their sequence runs."""
        return words

    def is_kept(self, s: sx.Assign) -> bool:
        """`GateLast := Gate;`, `FirstScan := FALSE;`, `AEdgeSeen := ...`, `Gate_S1_Left := FALSE;`"""
        low = str(s.target).lower()
        kept = low.endswith("last") and low[:-4] in self.threads
        return kept or low == "firstscan" or low in self.edges or low in self.said

    def mapped(self, s: sx.Assign) -> bool:
        """`Down := Gate = 20 OR Gate = 40 AND GateT >= T#2s;`, or which steps reset it."""
        low = str(s.target).lower()
        if low not in self.signals:
            return False
        if low.endswith("_reset"):
            self.resets[low] = self._terms(tokens(self.text_of(s.value)))
            self.gone.add(low)
            return bool(self.resets[low])
        found = self._actions(self.text_of(s.value), self.names.get(low) or self.signals[low].name)
        for term, action in found:
            self._mark(term, action)
        return bool(found)

    def _actions(self, text: str, target: str) -> list[tuple[Term, Action]]:
        """The blocks of a mapping, with those that reset its target; none where one of its terms is another."""
        words = self._inner(tokens(text))
        low = [t.word.lower() for t in words]
        reset = list[Term]()
        if low[:1] == ["not"] and low[2:3] == ["and"] and low[1] in self.resets:
            reset, words = self.resets[low[1]], words[3:]
            if low[3:] == ["false"]:
                words = []
        found = self._terms(words)
        if words and not found:
            return []
        return [(t, t.action(target)) for t in found] + [(t, Action(Qualifier.R, target)) for t in reset]

    def _mark(self, term: Term, action: Action) -> None:
        """A block of a step; those of variables stand before bodies."""
        mine = self.marks.setdefault((term.thread.sequence, term.step.name), [])
        bodies = {b.name for b in self.bodies.get(term.thread.sequence, ())}
        at = next((n for n, (_, a) in enumerate(mine) if a.target in bodies), len(mine))
        mine.insert(len(mine) if action.target in bodies else at, (term.place, action))

    def acts(self, s: sx.If) -> bool:
        """A clock that begins again, a window, what is stored, a latched output, or a body."""
        condition, inner = s.branches[0]
        (first, *more) = inner
        assigned = list(self.assigned(inner))
        low = str(first.target).lower() if isinstance(first, sx.Assign) else ""
        if low.endswith("t") and low[:-1] in self.threads and not more:
            return True
        words = tokens(self.text_of(condition))
        ended = _END.match(self.text, s.span.end)
        if ended is not None:
            return self._body(s, ended["name"])
        if len(words) == 1 and words[0].word.lower() in self.resets:
            return True
        kept = next((a for a, value in assigned if a.endswith("_stored") and value == "TRUE"), "")
        if kept:
            term = self.term(words[:-3] if words[-2].word.upper() == "NOT" else words)
            if term is None:
                return False
            self.stored[kept] = replace(term, rule=replace(term.rule, stored=True), place=place_of(kept))
            self.gone |= {kept, kept.removesuffix("_stored") + "_for", kept.removesuffix("_stored") + "_spent"}
            return True
        term = self.term(words)
        if len(assigned) != 1 or more or term is None or low not in self.signals:
            return False
        qualifier = {("TRUE", When.ENTERED): Qualifier.S, ("FALSE", When.ACTIVE): Qualifier.R}.get(
            (assigned[0][1], term.rule.when)
        )
        if qualifier is None or term.time:
            return False
        self.latched.add(low)
        self._mark(term, Action(qualifier, self.names.get(low) or self.signals[low].name))
        return True

    def assigned(self, block: Iterable[sx.Statement]) -> Iterator[tuple[str, str]]:
        """What statements set, in lower case, with the values as they are written in capitals; inside an IF too."""
        for s in block:
            if isinstance(s, sx.Assign):
                yield str(s.target).lower(), self.text_of(s.value).upper()
            for inner in sx.children(s)[1]:
                yield from self.assigned(inner)

    def _body(self, s: sx.If, name: str) -> bool:
        condition, _ = s.branches[0]
        found = self._actions(self.text_of(condition), name)
        if not found:
            return False
        own = found[0][0].thread.sequence
        begins = self.text.upper().index("THEN", condition.span.end) + 4
        text = re.sub(
            r"^\s*\(\*[^*]*\*\)", "", self.text[begins : self.text.upper().rindex("END_IF", begins, s.span.end)]
        )
        self.bodies.setdefault(own, []).append(
            Body(name, self.spoken(dedent(text.strip("\n").rstrip()).strip(" "), own))
        )
        for term, action in found:
            self._mark(term, action)
        return True

    def _inner(self, words: list[Token]) -> list[Token]:
        """Words without what asks whether their sequence runs, and without parentheses around all of them."""
        while (inner := _inside(self.free(words))) != words:
            words = inner
        return words

    def _terms(self, words: list[Token]) -> list[Term]:
        """What is joined by OR, in parentheses or not; none where one of the terms is another."""
        words = self._inner(words)
        parts: list[list[Token]] = [[]]
        depth = 0
        for t in words:
            depth += (t.word == "(") - (t.word == ")")
            if t.word.upper() == "OR" and not depth:
                parts.append([])
            else:
                parts[-1].append(t)
        found = [self.term(p) for p in parts]
        return [t for t in found if t is not None] if None not in found else []

    def term(self, words: list[Token]) -> Term | None:
        """The step in which a part of a mapping acts, and how; None for a part of another form."""
        words = self.free(words)
        low = [t.word.lower() for t in words]
        signs = {">=": By.SINCE, "<": By.BEFORE}
        if low and low[0] in self.stored:
            kept = self.stored[low[0]]
            if len(low) == 1:
                return kept
            since = len(low) == 5 and low[2] == low[0].removesuffix("_stored") + "_for" and low[3] in signs
            return (
                replace(kept, rule=replace(kept.rule, since_stored=signs[low[3]]), time=words[4].word)
                if since
                else None
            )
        if len(low) == 1 and low[0].endswith("_left") and low[0] in self.said:
            sequence, member = self.said[low[0]]
            for thread in self.of[sequence]:
                for step in thread.steps.values():
                    if member == f"{step.name}.":
                        return Term(thread, step, Rule(When.LEFT))
        if len(low) < 3 or low[1] != "=" or not low[2].isdigit():
            return None
        left = low[0].endswith("last") and low[0][:-4] in self.threads
        found = self.threads.get(low[0][:-4] if left else low[0])
        there = found.steps.get(int(low[2])) if found is not None else None
        if found is None or there is None:
            return None
        at, rest = found.at.lower(), low[3:]
        if rest == ["and", at, "<>", f"{at}last"]:
            return Term(found, there, Rule(When.LEFT if left else When.ENTERED))
        if left:
            return None
        if not rest:
            return Term(found, there, Rule(When.ACTIVE))
        own = f"{found.sequence}_{there.name}_t".lower()
        if len(rest) == 4 and rest[1] in (f"{at}t", own) and rest[2] in signs:
            return Term(found, there, Rule(When.ACTIVE, in_step=signs[rest[2]]), words[6].word)
        return None


def place_of(name: str) -> int:
    """The place among the blocks of its step of one whose variable is called `Gate_Open_Lamp_2_Stored`: from 0."""
    numbered = re.search(r"_(\d+)_[a-z]+$", name.lower())
    return int(numbered[1]) - 1 if numbered else 0


def in_place(found: list[tuple[int, Action]]) -> tuple[Action, ...]:
    """Blocks in the order in which they were found, but for those whose place is known."""
    out: list[Action | None] = [None] * len(found)
    rest = []
    for place, action in found:
        if 0 <= place < len(out) and out[place] is None:
            out[place] = action
        else:
            rest.append(action)
    return tuple(a if a is not None else rest.pop(0) for a in out)


def _inside(words: list[Token]) -> list[Token]:
    """Words without a pair of parentheses around all of them."""
    depth = 0
    for n, t in enumerate(words):
        depth += (t.word == "(") - (t.word == ")")
        if not depth:
            return words[1:-1] if n and n == len(words) - 1 else words
    return words
