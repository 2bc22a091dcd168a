"""The deeds of a scenario as they come up in a run: each waits for its moment, one after the other."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

from spokeshave.engine.session import Session
from spokeshave.language.compile import compile_units
from spokeshave.language.scenario import PRESS_MS
from spokeshave.language.scenario_rows import DeedRow, GivenRow
from spokeshave.machine.belt import TAKING
from spokeshave.machine.device import NEVER
from spokeshave.model.project import Device, Project
from spokeshave.model.recipes import recipe_of, taken
from spokeshave.verify.scenario_language import Checked
from spokeshave.verify.scenario_names import hand_value, reset_hands, typed_value

Later = tuple[int, str, str, Any]
"""What is let go of later: time in ms, what is done, to what, with which value."""


class Script:
    """Times are those of the scenario: they count from the scan in which it starts."""

    def __init__(self, session: Session, checked: Checked) -> None:
        self.session, self.checked = session, checked
        self.start_ms = session.time_ms
        self.rows = checked.sheet.deeds
        self.at = 0
        self.before_ms = 0
        """When the row before was done."""
        self.armed_ms: int | None = None
        """When the condition or step of the present row came."""
        self.later: list[Later] = []
        self.marks: dict[str, int] = {}
        """Situations that were named, in lower case, and when."""
        self.tests = {
            r.line: compile_units([(0, t) for t in checked.conditions[r.line]])
            for r in self.rows if checked.conditions[r.line]
        }  # fmt: skip

    def fork(self, session: Session) -> Script:
        """The same deeds, as far as they are done, in another run of the same program."""
        other = object.__new__(Script)
        other.__dict__ |= self.__dict__ | {"session": session, "later": list(self.later), "marks": dict(self.marks)}
        return other

    def next_scan(self) -> int:
        """The scan before which something is due by its time; NEVER while all waits for a condition, or is done."""
        times = [t for t, *_ in self.later]
        if self.at < len(self.rows):
            m = self.rows[self.at].moment
            if m.kind == "at":
                times.append(m.ms)
            elif m.kind == "after":
                times.append(self.before_ms + m.ms)
            elif self.armed_ms is not None:
                times.append(self.armed_ms + m.ms)
        return -(-(self.start_ms + min(times)) // self.session.program.period_ms) if times else NEVER

    def has_come(self, came: Callable[[int], Iterable[int]]) -> bool:
        """Whether what the present row waits for has come in the scan before; `came` gives the steps of a sequence."""
        if self.at >= len(self.rows) or self.armed_ms is not None:
            return False
        row = self.rows[self.at]
        return row.moment.kind not in ("at", "after") and self._has_come(row, came)

    def begin(self) -> None:
        """What is given, before the first scan."""
        for row in self.checked.sheet.given:
            self._give(row)

    def before_scan(self, came: Callable[[int], Iterable[int]] | None = None) -> None:
        """Does everything that is due in the next scan. `came` gives the steps of a sequence entered in the scan before."""
        came = came or self.session.situation.came.__getitem__
        now = self.session.time_ms - self.start_ms
        for entry in [r for r in self.later if r[0] <= now]:
            self.session.do(*entry[1:])
            self.later.remove(entry)
        while self.at < len(self.rows) and self._is_due(self.rows[self.at], now, came):
            self._do(self.rows[self.at], now)
            self.at += 1
            self.before_ms, self.armed_ms = now, None

    def _is_due(self, row: DeedRow, now: int, came: Callable[[int], Iterable[int]]) -> bool:
        m = row.moment
        if m.kind == "at":
            return now >= m.ms
        if m.kind == "after":
            return now >= self.before_ms + m.ms
        if self.armed_ms is None and self.session.k and self._has_come(row, came):
            self.armed_ms = now
        return self.armed_ms is not None and now >= self.armed_ms + m.ms

    def _has_come(self, row: DeedRow, came: Callable[[int], Iterable[int]]) -> bool:
        """Whether the row's condition holds, or its step was entered, in the scan before."""
        s = self.session.situation
        if row.moment.kind == "when":
            return bool(self.tests[row.line][0](s.v))
        for q in self.session.program.sequences:
            if q.name.lower() == row.moment.sequence.lower():
                return any(q.steps[a].name.lower() == row.moment.step.lower() for a in came(q.index))
        return False

    def _give(self, row: GivenRow) -> None:
        signal = self.session.program.project.signal(row.target)
        if row.kind == "recipe":
            self._use(row.value)
        elif row.kind == "value" and signal is not None:
            self.session.do("set", signal.name, typed_value(row.value, signal))
        elif row.kind == "value":
            self.session.do("hand", row.target, hand_value(row.value))
        elif row.kind == "held":
            self.session.do("hand", row.target, 1)
        elif row.kind == "failure":
            self.session.do("fail", row.target, row.value)

    def _do(self, row: DeedRow, now: int) -> None:
        do, name = self.session.do, row.target
        match row.do:
            case "press":
                do("hand", name, 1)
                self.later.append((now + row.ms, "hand", name, 0))
            case "take":
                do("hand", name, TAKING)
                self.later.append((now + row.ms, "hand", name, 0))
            case "hold":
                do("hand", name, 1)
            case "release":
                do("hand", name, 0)
            case "turn":
                do("hand", name, hand_value(row.value))
            case "use_recipe":
                self._use(row.value)
            case "set_value" | "force":
                signal = self.session.program.project.signal(name)
                assert signal is not None
                do("set" if row.do == "set_value" else "force", name, typed_value(row.value, signal))
            case "ask":
                do("ask", name, row.value.upper() == "TRUE")
            case "hand_drive":
                do("drive", "", row.value == "TRUE")
            case "unforce":
                do("unforce", name)
            case "break_device":
                do("fail", name, row.value)
            case "mend_device":
                do("heal", name, row.value)
            case "power_cycle":
                do("power")
            case "acknowledge":
                do("ack")
            case "reset":
                self._reset(now)
            case "mark":
                self.marks[row.value.lower()] = now

    def _use(self, name: str) -> None:
        """Sets what a recipe says."""
        project = self.session.program.project
        recipe = recipe_of(project, name)
        assert recipe is not None  # the rows were checked
        for signal, value in taken(project, recipe):
            self.session.do("set", signal.name, value)

    def _reset(self, now: int) -> None:
        """Presses what makes the reset expression rise, and lets go of it."""
        for hand in reset_hands(self.session.program.project):
            what, on, off = ("hand", 1, 0) if isinstance(hand, Device) else ("set", True, False)
            self.session.do(what, hand.name, on)
            self.later.append((now + PRESS_MS, what, hand.name, off))


def with_parameters(project: Project, given: tuple[GivenRow, ...]) -> Project:
    """The machine file with the device parameters that a scenario gives."""
    for row in given:
        device = project.device(row.target)
        if row.kind == "parameter" and device is not None:
            others = tuple(p for p in device.parameters if p[0] != row.parameter)
            new = replace(device, parameters=(*others, (row.parameter, float(row.value))))
            project = replace(project, devices=tuple(new if d is device else d for d in project.devices))
    return project
