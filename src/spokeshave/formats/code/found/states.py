"""The threads of plain code, their states, and what its words stand for."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from spokeshave.formats.code.tokens import Token, tokens
from spokeshave.language import syntax as sx
from spokeshave.model.project import Instance, Project, Signal, Step

_BESIDE = r"(?P<name>[A-Za-z_]\w*)[ \t]*(?::[ \t]*(?P<comment>.*?))?[ \t]*\*\)"
LABEL = re.compile(rf"\s*\d+:[ \t]*\(\*[ \t]*{_BESIDE}", re.DOTALL)
TOLD = re.compile(rf"\(\*[ \t]*(?P<at>\w+) = (?P<number>\d+): {_BESIDE}", re.DOTALL)
"""A step of a thread in which all steps wait for others, and so without a CASE."""
OPENING = "(* end of opening logic *)"
"""What stands behind the opening logic."""
SCAN_TIME = "scantime"
"""The input by which measured times go, in lower case."""
EDGES = {"R_TRIG": "RISING", "F_TRIG": "FALLING", "TON": "HELD"}


class OtherForm(Exception):
    """The text is not of these forms; the statement that is not, or what is missing."""


@dataclass
class Thread:
    """The CASE of a thread: its variable, the names of its states by their numbers."""

    at: str
    sequence: str
    steps: dict[int, Step] = field(default_factory=dict)


class States:
    """A text of plain code that is taken apart; what has been found stands in its fields."""

    def __init__(self, text: str, project: Project, signals: dict[str, Signal], instances: dict[str, Instance]) -> None:
        self.text, self.base, self.signals, self.instances = text, project, signals, instances
        self.threads: dict[str, Thread] = {}
        """By the variable of its state, and by the copy of it, in lower case."""
        self.of: dict[str, list[Thread]] = {}
        self.chosen: dict[str, dict[int, tuple[sx.Statement, ...]]] = {}
        """Where ways are chosen first: what each number of a variable does, by the variable in lower case."""
        self.said: dict[str, tuple[str, str]] = {}
        """The step, of which sequence, for whose time, lateness or leaving a variable stands, with the member as its end."""
        self.edges: dict[str, str] = {}
        """What the results of edge blocks stand for."""
        self.names: dict[str, str] = {}
        """What other variables of the code stand for."""
        self.gone = {"firstscan", SCAN_TIME}
        """Variables of the code alone, in lower case."""

    def text_of(self, x: sx.Expression | sx.Statement) -> str:
        """The text of a part of the program."""
        return self.text[x.span.start : x.span.end]

    def ticks(self, s: sx.Statement) -> bool:
        """Whether a statement lets clocks go on."""
        if isinstance(s, sx.If) and len(s.branches) == 1:
            return all(map(self.ticks, s.branches[0][1]))
        grows = tuple(f"{s.target} + {by}".lower() for by in ("t#", SCAN_TIME)) if isinstance(s, sx.Assign) else ()
        return isinstance(s, sx.Assign) and self.text_of(s.value).lower().startswith(grows)

    def take_states(self, statements: tuple[sx.Statement, ...]) -> None:
        """The threads with their states: every CASE, and the copies above it."""
        for s in statements:
            block = s.branches[0][1] if isinstance(s, sx.If) and len(s.branches) == 1 else (s,)
            cases = {str(x.selector): x for x in block if isinstance(x, sx.Case)}
            if not cases:
                continue
            copies = [str(x.value) for x in block if isinstance(x, sx.Assign) and str(x.target) == f"{x.value}Was"]
            own = [n for n in cases if not n.endswith("Was") and not re.search(r"_Way\d+$", n)]
            name = (copies or own)[0]
            own += [n[:-3] for n in cases if re.fullmatch(rf"{name}\d+Was", n)]
            told = [m["at"] for m in TOLD.finditer(self.text) if re.fullmatch(rf"{name}\d+", m["at"])]
            for n in dict.fromkeys([*copies, *own, *told]):
                thread = self.threads[n.lower()] = self.threads[f"{n}Was".lower()] = Thread(n, name)
                self.of.setdefault(name, []).append(thread)
                self.gone |= {f"{n}{more}".lower() for more in ("", "Was", "Last", "T")}
            for selector, case in cases.items():
                if selector.lower() not in self.threads:
                    self.chosen[selector.lower()] = {label(labels): inner for labels, inner in case.branches}
                    continue
                for labels, _ in case.branches:
                    number = label(labels)
                    beside = LABEL.match(self.text, labels[0][0].span.start)
                    self.threads[selector.lower()].steps[number] = self._step(beside, number)
        for m in TOLD.finditer(self.text):
            if m["at"].lower() in self.threads:
                self.threads[m["at"].lower()].steps[int(m["number"])] = self._step(m, int(m["number"]))
        for thread in [t for threads in self.of.values() for t in threads]:
            for step in thread.steps.values():
                for end, member in (("T", "T"), ("Late", "Late"), ("Left", "")):
                    low = f"{thread.sequence}_{step.name}_{end}".lower()
                    if low in self.signals:
                        self.said[low] = thread.sequence, f"{step.name}.{member}"
                        self.gone.add(low)
        self.gone |= {low for low in self.signals if low in self.chosen or re.search(r"_way\d+$", low)}

    def _step(self, found: re.Match[str] | None, number: int) -> Step:
        """The step that is named beside a number."""
        if found is None:
            raise OtherForm(str(number))
        return Step(found["name"], number, comment=" ".join((found["comment"] or "").replace("* )", "*)").split()))

    def edge(self, s: sx.BlockCall) -> bool:
        """`GoEdge(CLK := Go);` is what `GoEdge.Q` stands for."""
        low = str(s.instance).lower()
        given = {a.name.upper(): self.spoken(self.text_of(a.value), "") for a in s.inputs}
        kind = self.instances[low].kind if low in self.instances else ""
        if kind not in EDGES:
            return False
        operand = given["IN"] + f", {given['PT']}" if kind == "TON" else given["CLK"]
        self.edges[f"{low}.q"] = self.edges[f"{low}seen"] = f"{EDGES[kind]}({operand})"
        self.gone |= {low, f"{low}seen"}
        return True

    def spoken(self, text: str, own: str, clocks: dict[str, str] | None = None) -> str:
        """A text in the words of the model; `own` is the sequence that it belongs to."""
        found, out, at, i = tokens(text), list[str](), 0, 0
        while i < len(found):
            last, new = self._word(found, i, own, clocks or {})
            if new:
                out += [text[at : found[i].start], new]
                at = found[last].end
            i = last + 1
        return ("".join(out) + text[at:]).replace(OPENING, "")

    def _word(self, found: list[Token], i: int, own: str, clocks: dict[str, str]) -> tuple[int, str]:
        """What the words from word `i` on stand for, and the last of them; empty for themselves."""
        low = found[i].word.lower()
        following = [t.word.lower() for t in found[i + 1 : i + 6]]
        opened = low == "("
        if opened and following[1:5] == ["and", "not", "firstscan", ")"] and following[0] in self.edges:
            return i + 5, self.edges[following[0]]
        if low in self.edges and following[:3] == ["and", "not", "firstscan"]:
            return i + 3, self.edges[low]
        k = i + opened
        name = found[k].word.lower() if k < len(found) else ""
        if k + 2 < len(found) and name in self.threads and found[k + 1].word == "=" and found[k + 2].word.isdigit():
            thread = self.threads[name]
            if not opened or (k + 3 < len(found) and found[k + 3].word == ")"):
                step = thread.steps[int(found[k + 2].word)].name
                return k + 2 + opened, named(thread.sequence, f"{step}.X", own)
        if low in self.said:
            return i, named(*self.said[low], own)
        return i, clocks.get(low) or self.edges.get(low) or self.names.get(low, "")


def label(labels: tuple[tuple[sx.Literal | sx.Name, sx.Literal | sx.Name], ...]) -> int:
    """The only number of a label. Raises `OtherForm` for another one."""
    (low, high), *more = labels
    if more or not isinstance(low, sx.Literal) or low != high:
        raise OtherForm(str(low))
    return int(low.value)


def named(sequence: str, member: str, own: str) -> str:
    """A member of a step as a text of the sequence `own` says it."""
    return member if sequence == own else f"{sequence}.{member}"
