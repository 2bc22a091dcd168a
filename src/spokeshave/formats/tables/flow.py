"""Where the ways out of a table's steps lead: by number, by name, to the row below, to several at once, together with others."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace

from spokeshave.formats.sequencer_table import WAITS
from spokeshave.formats.tables.headings import STEP_WORDS, plain_head, role_of
from spokeshave.formats.tables.plan import Plan
from spokeshave.model.project import Body, Sequence, Step, Transition

_ENDS = frozenset(("end", "ende", "stop", "fertig", "done", "finish"))
NOWHERE = ("none", "nowhere", "keiner", "nirgends")
"""What stands in *Next* of a step that leads nowhere."""
_WITH = re.compile(r"(.*?)\s+with\s+(.+)", re.IGNORECASE)
_STANDS = ("after this step", "step", "schritt", "go to", "goto", "→", "->", "state")


@dataclass(slots=True)
class Way:
    """A way out as it stands in a row: where it comes from, what it awaits, where it leads."""

    row: int
    source: str
    condition: str
    target: str
    priority: int | None = None
    name: str = ""


@dataclass
class Flow:
    """The steps and ways of a table. `spelt` are names and numbers of steps as the table has them, in lower case, and the names
    they have here; `next_head` is the heading of the column that says where a row leads.
    """

    plan: Plan
    name: str
    steps: list[Step]
    ways: list[Way]
    spelt: dict[str, str]
    next_head: str = ""
    bodies: dict[str, str] = field(default_factory=dict)

    def sequence(self) -> Sequence:
        """The steps with their ways out."""
        order = [s.name for s in self.steps]
        ways: list[Transition] = []
        joined: dict[str, list[str]] = {}
        left = {w.source for w in self.ways}
        said: set[str] = set()
        """Steps in whose rows the others that a way waits for are named."""
        every = [*self.ways, *(Way(self.plan.heading, n, "", "") for n in order if n not in left)]
        for w in sorted(every, key=lambda w: order.index(w.source)):
            if w.target.lower().startswith(WAITS):
                lead = self._target(w.target[len(WAITS) :])
                if lead is None:
                    self.plan.wrong(w.row, f"there is no step {w.target[len(WAITS) :]}", self.next_head)
                else:
                    joined.setdefault(lead, []).append(w.source)
                continue
            with_others = _WITH.fullmatch(w.target.strip())
            others: list[str] = []
            if with_others is not None and self._target(w.target) is None:
                w.target = with_others[1]
                found = [(text, self._target(text)) for text in with_others[2].split("+")]
                for text, name in found:
                    if name is None:
                        self.plan.wrong(w.row, f"there is no step {text.strip()}", self.next_head)
                others = [name for _, name in found if name is not None]
                said.add(w.source)
            targets = self._targets(w, order)
            if targets is None:
                continue
            condition = w.condition
            if not condition:
                condition = "FALSE"
                self.plan.note(w.row, f"nothing says when {w.source} is left: FALSE, until somebody writes it")
            ways.append(Transition((*others, w.source), targets, condition, w.priority, w.name))
        for name in said:
            joined.pop(name, None)
        if not any(role_of(c.head, STEP_WORDS) in ("flow", "priority") for c in self.plan.columns):
            ways = _in_order(ways)
        ways = [replace(t, sources=(*joined.pop(t.sources[-1], ()), *t.sources)) for t in ways]
        bodies = tuple(Body(n, t) for n, t in self.bodies.items())
        return Sequence(self.name, order[0], tuple(self.steps), tuple(ways), bodies)

    def _targets(self, w: Way, order: list[str]) -> tuple[str, ...] | None:
        """Where a way leads: by number, by name, or to the row below."""
        text = w.target.strip()
        at = order.index(w.source)
        if text.lower() in NOWHERE and not w.condition:
            return None
        if not text or text in ("-", "–", "↓"):
            if at + 1 < len(order):
                return (order[at + 1],)
            self.plan.note(w.row, f"{w.source} is the last step: it leads to {order[0]}")
            return (order[0],)
        whole = self._target(text)
        if whole is not None:
            return (whole,)
        parts = [self._target(p) for p in text.split("+")] if "+" in text else [None]
        if all(p is not None for p in parts):
            return tuple(p for p in parts if p is not None)
        if plain_head(text) in _ENDS:
            self.plan.note(w.row, f"{text}: it leads to {order[0]}", self.next_head)
            return (order[0],)
        self.plan.wrong(w.row, f"there is no step {text}", self.next_head)
        return None

    def _target(self, text: str) -> str | None:
        low = text.strip().lower()
        for key in (low, plain_head(low)):
            if key in self.spelt:
                return self.spelt[key]
        for word in _STANDS:
            if low.startswith(word) and (rest := low[len(word) :].strip(" .:")):
                found = self.spelt.get(rest) or self.spelt.get(plain_head(rest))
                if found is not None:
                    return found
        return None


def _in_order(ways: list[Transition]) -> list[Transition]:
    """Several ways out of a step have the priority of their rows."""
    of: dict[str, int] = {}
    count = [t.sources[-1] for t in ways]
    out = []
    for t in ways:
        source = t.sources[-1]
        of[source] = of.get(source, 0) + 1
        out.append(replace(t, priority=of[source]) if count.count(source) > 1 else t)
    return out
