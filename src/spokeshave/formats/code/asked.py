"""What the texts of a machine file ask of its steps: code keeps no more than that."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable

from spokeshave.model.project import Project, Sequence, Step

_DOTTED = re.compile(r"(?<![\w.])[a-z_]\w*(?:\.[a-z_]\w*)+", re.IGNORECASE)


class Asked:
    """How often the texts of a machine file speak of members of steps. In its own sequence a step needs no other name before it."""

    def __init__(self, project: Project) -> None:
        p, everywhere = project, list[str]()
        everywhere += [p.opening, p.closing, p.home, p.reset]
        everywhere += [t.condition for t in p.trips] + [i.condition for i in p.interlocks]
        self._own: dict[str, Counter[str]] = {}
        self._leaving: dict[tuple[str, str], Counter[str]] = {}
        for q in p.sequences:
            own = [q.hold_when, q.restart_when, *(t.condition for t in q.transitions)]
            own += [*(b.text for b in q.bodies), *(s.permissive for s in q.steps)]
            self._own[q.name] = _members(own)
            everywhere += own
            for t in q.transitions:
                for s in t.sources:
                    self._leaving.setdefault((q.name, s), Counter()).update(_members([t.condition]))
        self._everywhere = _members(everywhere)

    def often(self, q: Sequence, s: Step, member: str) -> int:
        """How often any text speaks of a member of a step."""
        name = f"{s.name}.{member}".lower()
        return self._own[q.name][name] + self._everywhere[f"{q.name.lower()}.{name}"]

    def on_the_way_out(self, q: Sequence, s: Step, member: str) -> int:
        """How often a condition does under which the step is left."""
        name, found = f"{s.name}.{member}".lower(), self._leaving.get((q.name, s.name), Counter())
        return found[name] + found[f"{q.name.lower()}.{name}"]


def _members(texts: Iterable[str]) -> Counter[str]:
    return Counter(m.lower() for text in texts if "." in text for m in _DOTTED.findall(text))
