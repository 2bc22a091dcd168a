"""Which lanes the timing diagram shows: their groups, their order, what is folded and what is searched for."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.engine.session import Session
from spokeshave.model.alarms import phrase_of
from spokeshave.model.project import Type
from spokeshave.verify.lanes import tracks

LANE_H, STEPS_H, CURVE_H, GROUP_H = 17, 20, 30, 15


@dataclass(frozen=True)
class Lane:
    """One lane: a group's head, the steps of a sequence, an alarm, a BOOL signal or a number."""

    kind: str  # group, steps, alarm, bool, number
    name: str
    height: int


@dataclass
class LaneList:
    """The user's arrangement. Names of lanes in `order` come first in their group, in this order."""

    folded: set[str] = field(default_factory=lambda: {"Internals"})
    order: list[str] = field(default_factory=list)
    search: str = ""
    _known: tuple[object, ...] = ()
    _lanes: list[Lane] = field(default_factory=list)

    def lanes(self, session: Session) -> list[Lane]:
        """The lanes from above to below."""
        alarms = tuple(session.situation.alarms) if session.trace.events else ()
        key = (session.program, self.search, tuple(self.order), frozenset(self.folded), alarms)
        if key != self._known:
            self._known, self._lanes = key, self._built(session)
        return self._lanes

    def _built(self, session: Session) -> list[Lane]:
        signals = [r for r in session.trace.recorded if r.kind != "step"]
        groups: dict[str, list[Lane]] = {
            "Sequences": [],
            "Alarms": [],
            "Numbers": [],
            "Outputs": [],
            "Inputs": [],
            "Internals": [],
        }
        for q in session.program.project.sequences:
            groups["Sequences"].append(Lane("steps", q.name, STEPS_H * (max(tracks(q).values(), default=0) + 1)))
        called = dict.fromkeys(phrase_of(e.ident) for e in session.trace.events if e.kind == "alarm")
        groups["Alarms"] = [Lane("alarm", name, LANE_H) for name in called]
        for r in signals:
            if r.type is not Type.BOOL and r.kind != "setting":
                groups["Numbers"].append(Lane("number", r.name, CURVE_H))
        for kind, group in (("output", "Outputs"), ("input", "Inputs"), ("internal", "Internals")):
            groups[group] = [Lane("bool", r.name, LANE_H) for r in signals if r.kind == kind and r.type is Type.BOOL]
        out: list[Lane] = []
        wanted = self.search.strip().lower()
        place = {name: i for i, name in enumerate(self.order)}
        for group, lanes in groups.items():
            lanes = [lane for lane in lanes if wanted in lane.name.lower()]
            lanes.sort(key=lambda lane: place.get(lane.name, len(place)))
            if lanes:
                out.append(Lane("group", group, GROUP_H))
                out += lanes if wanted or group not in self.folded else []
        return out

    def fold(self, group: str) -> None:
        self.folded ^= {group}

    def move(self, lane: str, before: str, lanes: list[Lane]) -> None:
        """Puts a lane in front of another of its group."""
        names = [x.name for x in lanes if x.kind != "group"]
        if lane in names and before in names and lane != before:
            names.remove(lane)
            names.insert(names.index(before), lane)
            self.order = names

    def matches(self, text: str) -> None:
        self.search = text
