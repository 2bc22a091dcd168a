"""Differences as sentences a practitioner would say."""

from __future__ import annotations

import re
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Any

from spokeshave.changes.compare import MISSING, Difference
from spokeshave.language.literals import value_text
from spokeshave.language.terms import terms_of
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Action, Project, Sequence, Type

LONGEST = 70
"""Characters of a text that is quoted."""
_FIELDS = {
    "cls": "class", "period_ms": "scan period", "hold_when": "what holds it", "hold_outputs": "what its outputs do in a hold",
    "restart_when": "what restarts it",
    "longest": "longest time", "shortest": "shortest time", "response": "what being late does", "at": "place",
    "wires": "wiring", "go_to": "the steps it goes to", "zeroed": "what it sets to zero", "dead_ms": "dead time",
    "shown_by": "what shows it", "on": "what raises it", "initial": "initial value",
}  # fmt: skip
_ITEMS = {
    "requirements": "requirement", "signals": "signal", "tables": "table", "routines": "block", "instances": "instance",
    "recipes": "recipe", "sequences": "sequence",
    "interlocks": "interlock of", "opposed": "opposed pair", "trips": "trip", "alarms": "alarm", "devices": "device",
    "connections": "connection", "labels": "label",
    "groups": "group", "scene": "shape", "panel": "tile", "units": "unit",
    "modbus": "Modbus address of", "scenarios": "scenario", "accepted": "accepted run", "waivers": "waiver",
    "steps": "step",    "transitions": "transition", "bodies": "body", "conflicts": "conflict",
}  # fmt: skip
STAGE_OF = {
    "requirements": "Brief", "signals": "Signals", "tables": "Signals", "routines": "Signals", "instances": "Signals",
    "recipes": "Signals", "opening": "Signals",
    "closing": "Signals", "units": "Signals", "sequences": "Sequence", "devices": "Machine", "connections": "Machine", "labels": "Machine",
    "groups": "Machine", "scene": "Machine", "svg": "Machine", "panel": "Bench", "tolerances": "Proof", "modbus": "Machine",
    "interlocks": "Proof", "opposed": "Proof", "trips": "Proof", "alarms": "Proof", "scenarios": "Proof",
    "accepted": "Proof", "sweep": "Proof",    "study": "Proof", "waivers": "Proof",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Told:
    """A difference in words, with the stage and the place in the newer file that it is about."""

    difference: Difference
    stage: str
    text: str
    place: Place


def told(found: list[Difference], before: Project, after: Project) -> list[Told]:
    """Every difference as a sentence."""
    speaker = _Speaker(before, after)
    return [Told(d, *speaker.say(d)) for d in found]


class _Speaker:
    def __init__(self, before: Project, after: Project) -> None:
        self.before, self.after = before, after

    def say(self, d: Difference) -> tuple[str, str, Place]:
        """Stage, sentence and place."""
        root, *rest = d.path
        if root == "renamed":
            kind, owner, old = rest
            where = f"{owner}: " * bool(owner)
            place = Place("step", owner, str(d.after)) if kind == "step" else Place(kind, item=str(d.after))
            stage = "Signals" if kind == "signal" else "Sequence"
            return stage, f"{where}{kind} {old} is called {d.after} now", place
        stage = STAGE_OF.get(root, "File")
        if root == "sequences":
            return stage, *self._in_sequence(d, rest)
        if not rest:
            place = Place(root) if root in ("opening", "closing") else Place("project")
            return (
                stage,
                _changed(_FIELDS.get(root, root) + (" logic" if root in ("opening", "closing") else ""), d),
                place,
            )
        return stage, self._in_list(d, root, rest), _place(root, self._spelt(root, rest[0]))

    def _spelt(self, root: str, key: str) -> str:
        """The name of an item as it is written."""
        for project in (self.after, self.before):
            for item in getattr(project, root):
                name = getattr(item, "name", getattr(item, "ident", getattr(item, "output", "")))
                if name and name.lower() == key:
                    return str(name)
        return key

    def _in_list(self, d: Difference, root: str, rest: list[str]) -> str:
        what = f"{_ITEMS[root]} {self._spelt(root, rest[0])}"
        if rest == ["order"]:
            return f"{_ITEMS[root].removesuffix(' of')}s stand in another order"
        if len(rest) == 1:
            detail = self._detail(root, d.after if d.before is MISSING else d.before)
            return f"{what}{detail} is {d.kind}"
        name = rest[1]
        if root == "devices" and name == "at":
            return f"{what} moved on the board"
        if root in ("interlocks", "trips", "alarms") and name == "condition":
            return _terms(what, str(d.before), str(d.after))
        if root == "devices" and name in ("wires", "parameters"):
            return f"{what}: {_pairs(d)}"
        if root == "scenarios" and name == "text":
            return f"{what}: {_rows(str(d.before), str(d.after))}"
        return f"{what}: {_changed(_FIELDS.get(name, name), d)}"

    @staticmethod
    def _detail(root: str, item: Any) -> str:
        if root == "signals":
            return f", {item['cls']} {item['type']},"
        if root == "interlocks":
            return f" ({_short(item['condition'])})"
        return ""

    # -- sequences

    def _in_sequence(self, d: Difference, rest: list[str]) -> tuple[str, Place]:
        name = self._spelt("sequences", rest[0])
        q = self.after.sequence(name) or self.before.sequence(name)
        assert q is not None
        if len(rest) == 1:
            if rest == ["order"]:
                return "sequences stand in another order", Place("project")
            return f"sequence {name} is {d.kind}", Place("sequence", item=name)
        part, *inner = rest[1:]
        if part == "steps":
            return f"{name}: {self._step(d, q, inner)}", Place("step", name, self._step_name(q, inner[0]))
        if part == "transitions":
            return f"{name}: {self._way(d, q, inner)}", Place("sequence", item=name)
        if part == "bodies":
            body = next((b.name for b in q.bodies if b.name.lower() == inner[0]), inner[0])
            if len(inner) == 1:
                return f"{name}: body {body} is {d.kind}", Place("body", name, body)
            return f"{name}: body {body}: {_rows(str(d.before), str(d.after))}", Place("body", name, body)
        return f"{name}: {_changed(_FIELDS.get(part, part), d)}", Place("sequence", item=name)

    def _step_name(self, q: Sequence, key: str) -> str:
        return next((s.name for s in q.steps if s.name.lower() == key), key)

    def _step(self, d: Difference, q: Sequence, inner: list[str]) -> str:
        if inner == ["order"]:
            return "steps stand in another order"
        if len(inner) == 1:
            tree = d.after if d.before is MISSING else d.before
            text = f"step {tree['number']} {tree['name']}"
            return f"{text} inserted{_between(q, tree['name'])}" if d.kind == "new" else f"{text} is gone"
        step = q.step(inner[0])
        head = f"step {step.number} {step.name}" if step is not None else f"step {inner[0]}"
        if inner[1] == "actions":
            return f"{head}: {_actions(d.before, d.after)}"
        if inner[1] == "number":
            return f"step {step.name if step else inner[0]} has the number {d.after}, was {d.before}"
        return f"{head}: {_changed(_FIELDS.get(inner[1], inner[1]), d)}"

    def _way(self, d: Difference, q: Sequence, inner: list[str]) -> str:
        if inner == ["order"]:
            return "ways out are in another order"
        numbers = {
            s.name.lower(): str(s.number)
            for p in (self.before, self.after)
            for x in (p.sequence(q.name),)
            if x
            for s in x.steps
        }
        ends = " to ".join(
            " + ".join(numbers.get(n, n) for n in side.split(" + "))
            for side in re.sub(r" #\d+$", "", inner[0]).split(" to ")
        )
        if len(inner) == 1:
            tree = d.after if d.before is MISSING else d.before
            condition = _short(tree["condition"])
            return (
                f"{ends.replace(' to ', ' leads to ')} if {condition}"
                if d.kind == "new"
                else f"{ends.replace(' to ', ' no longer leads to ')} (if {condition})"
            )
        if inner[1] == "condition":
            old, new = _time_in(str(d.before)), _time_in(str(d.after))
            if old and new and old[0].lower() == new[0].lower():
                return f"the time of {new[0]} is {new[1]}, was {old[1]}"
            return f"the condition from {ends}: {_short(d.after)} was {_short(d.before)}"
        return f"the way from {ends}: {_changed(_FIELDS.get(inner[1], inner[1]), d)}"


def _between(q: Sequence, name: str) -> str:
    """Between which steps a step stands in the order of the numbers."""
    numbers = sorted((s.number, s.name) for s in q.steps)
    at = next(i for i, (_, n) in enumerate(numbers) if n == name)
    before, behind = numbers[at - 1 : at], numbers[at + 1 : at + 2]
    if before and behind and at:
        return f" between {before[0][0]} and {behind[0][0]}"
    return f" before {behind[0][0]}" if behind else f" behind {numbers[at - 1][0]}" if at else ""


def _time_in(condition: str) -> tuple[str, str] | None:
    found = re.fullmatch(r"\s*(\w+)\.T\s*>=\s*(?:T|TIME)#(\S+)\s*", condition, re.IGNORECASE)
    return (found[1], found[2]) if found else None


def _actions(before: tuple[Action, ...], after: tuple[Action, ...]) -> str:
    def mark(a: Action) -> str:
        return (
            a.target
            if a.qualifier == "N"
            else f"{a.target} ({a.qualifier}{' ' + a.time.removeprefix('T#') if a.time else ''})"
        )

    gone, new = [mark(a) for a in before if a not in after], [mark(a) for a in after if a not in before]
    parts = [f"also {', '.join(new)}"] * bool(new) + [f"no longer {', '.join(gone)}"] * bool(gone)
    return "; ".join(parts) or "its marks are in another order"


def _terms(what: str, before: str, after: str) -> str:
    """What a condition of terms lost and gained."""
    a, b = terms_of(before), terms_of(after)
    lost, gained = [t for t in a if t not in b], [t for t in b if t not in a]
    if lost and not gained:
        return f"{what} lost {', '.join(lost)}"
    if gained and not lost:
        return (
            f"{what} also needs {', '.join(gained)}"
            if what.startswith("interlock")
            else f"{what} got {', '.join(gained)}"
        )
    return f"{what}: the condition {_short(after)} was {_short(before)}"


def _pairs(d: Difference) -> str:
    a, b = dict(d.before), dict(d.after)
    parts = []
    for key in dict.fromkeys((*a, *b)):
        if a.get(key) != b.get(key):
            parts.append(
                f"{key} is {_short(b[key])}, was {_short(a[key])}"
                if key in a and key in b
                else f"{key} {_short(b.get(key, a.get(key)))} is {'new' if key in b else 'gone'}"
            )
    return "; ".join(parts)


def _rows(before: str, after: str) -> str:
    """What lines of a text came, went and changed."""
    a, b = before.splitlines(), after.splitlines()
    parts = []
    for tag, i, j, k, m in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if tag == "replace" and j - i == m - k == 1:
            parts.append(f"row {_short(b[k].strip())} was {_short(a[i].strip())}")
        elif tag != "equal":
            parts += [f"row {_short(x.strip())} is gone" for x in a[i:j] if x.strip()]
            parts += [f"row {_short(x.strip())} is new" for x in b[k:m] if x.strip()]
    more = f"; {len(parts) - 3} more" if len(parts) > 3 else ""
    return "; ".join(parts[:3]) + more if parts else "blanks differ"


def _changed(what: str, d: Difference) -> str:
    if isinstance(d.before, str) and isinstance(d.after, str) and ("\n" in d.before or "\n" in d.after):
        return f"{what}: {_rows(d.before, d.after)}"
    return f"{what} is {_short(d.after)}, was {_short(d.before)}"


def _short(value: Any) -> str:
    if value is MISSING or value is None or value == "" or value == ():
        return "nothing"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, float):
        return value_text(value, Type.REAL)
    if isinstance(value, tuple):
        return (
            f"{len(value)} entries"
            if len(value) > 4 or any(not isinstance(x, (str, int)) for x in value)
            else ", ".join(map(str, value))
        )
    text = " ".join(str(value).split())
    return text if len(text) <= LONGEST else f"{text[: LONGEST - 3]}..."


def _place(root: str, name: str) -> Place:
    kinds = {"signals": "signal", "tables": "table", "routines": "routine", "instances": "instance", "recipes": "recipe",
             "interlocks": "interlock", "trips": "trip",
             "alarms": "alarm", "devices": "device", "scenarios": "scenario", "requirements": "requirement"}  # fmt: skip
    return Place(kinds[root], item=name) if root in kinds else Place("project")
