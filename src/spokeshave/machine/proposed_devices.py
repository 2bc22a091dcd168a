"""Devices that the names of signals speak of: `LowerArm`, `RaiseArm`, `ArmUp` and `ArmDown` are an arm, `Start` is a button.

Only what is plain is proposed; a signal whose name says nothing stays without a device until somebody makes one of it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from spokeshave.machine.kinds import KINDS
from spokeshave.machine.shown import COLOURS
from spokeshave.machine.wiring import alike, device_of, proposals, unwired, words_of
from spokeshave.model.board_edits import free_cell
from spokeshave.model.edits import EditError, add_item, free_name, taken_names
from spokeshave.model.project import Project, Signal, SignalClass, Type


@dataclass(frozen=True, slots=True)
class NewDevice:
    """A device that is not there yet: its kind, a name for it, and the signals it would be wired to."""

    kind: str
    name: str
    signals: tuple[str, ...]


def _set(text: str) -> frozenset[str]:
    return frozenset(text.split())


EMERGENCY = _set("emergency estop emerg")
BUTTON = _set("button pushbutton pb")
PRESSED = BUTTON | _set("start stop pause reset ack acknowledge confirm go again call")
LIT = _set("lamp light beacon led indicator")
SOUNDS = _set("horn buzzer siren")
HEATS = _set("heater heat heating burner")
TEMPERATURE = _set("temp temperature")
LEVEL = _set("level lvl")
FILLS = _set("fill filling inlet feed supply drain outlet empty discharge")
CONTENT = _set("full empty low high max min")
ABOUT_A_LEVEL = _set("above below over under water")
INDEXES = _set("advance index turn step next rotate")
IN_PLACE = _set("place position pos inplace inpos inposition indexed")
RUNS = _set("runs running fb feedback turning moving")
STOPS = EMERGENCY | _set("stop halt e")
WRONG = _set("fault faulted error alarm emergency trip tripped stopped")
WELL = _set("run running runs ready auto automatic ok done on")
TURNS = _set("motor pump fan blower stirrer mixer spindle")
WAYS = _set(
    "up down raise raised lower lowered lift top bottom upper open opened opening close closed closing shut "
    "extend extended retract retracted forward forwards backward back out in home"
)
"""Words for where something goes or is; what is left of a name is the thing itself."""
FILLERS = _set("at is on ok drive cmd command valve coil sw switch limit sensor") | RUNS


NOUNS = {"actuator": "Drive", "motor": "Motor", "thermal": "Heating", "vessel": "Vessel"}
"""What is put behind a name that something else has."""


def _speaks(signal: Signal, words: frozenset[str]) -> bool:
    return not words.isdisjoint(words_of(signal.name))


@lru_cache(maxsize=8192)
def _thing_of(name: str) -> tuple[str, ...]:
    return tuple(w for w in words_of(name) if w not in WAYS and w not in FILLERS)


def _thing(signal: Signal) -> tuple[str, ...]:
    """The words of a name that say what it is about."""
    return _thing_of(signal.name)


def _same_thing(a: tuple[str, ...], b: tuple[str, ...]) -> bool:
    """Whether two names are about one thing: the words of the shorter are all in the longer, numbers and sides too."""
    few, many = sorted((a, b), key=len)
    return bool(few) == bool(many) and all(any(alike(w, o) for o in many) for w in few)


class _Free:
    """The signals that no device has yet, taken away one after the other."""

    def __init__(self, project: Project) -> None:
        loose, wanted = unwired(project), {p.signal.lower() for p in proposals(project)}
        names = {n.lower() for n in (*loose.inputs, *loose.outputs)} - wanted
        self.left = [s for s in project.signals if s.name.lower() in names]

    def of(self, cls: SignalClass, fits: Callable[[Signal], bool], kind: Type | None = Type.BOOL) -> list[Signal]:
        of_type = (s for s in self.left if (s.type is kind if kind is not None else s.type is not Type.BOOL))
        return [s for s in of_type if s.cls is cls and fits(s)]

    def inputs(self, words: frozenset[str], kind: Type | None = Type.BOOL) -> list[Signal]:
        return self.of(SignalClass.INPUT, lambda s: _speaks(s, words), kind)

    def outputs(self, words: frozenset[str]) -> list[Signal]:
        return self.of(SignalClass.OUTPUT, lambda s: _speaks(s, words))

    def take(self, signals: Iterable[Signal]) -> None:
        taken = {s.name for s in signals}
        self.left = [s for s in self.left if s.name not in taken]


def proposed_devices(project: Project) -> tuple[NewDevice, ...]:
    """Devices for signals that have none, as far as their names speak plainly, those of the machine first."""
    free, found = _Free(project), list[NewDevice]()
    names = taken_names(project)

    def propose(kind: str, name: str, signals: Sequence[Signal]) -> bool:
        """Takes the signals if a device of this kind has a terminal for each."""
        try:
            device_of(Project(signals=tuple(signals)), kind, [s.name for s in signals])
        except EditError:
            return False
        noun = NOUNS.get(kind, "")
        usual = name if (name and name.lower() not in names) or noun.lower() in name.lower() else f"{name}{noun}"
        chosen = free_name(usual or KINDS[kind].title.split()[-1].capitalize(), names)
        names.add(chosen.lower())
        found.append(NewDevice(kind, chosen, tuple(s.name for s in signals)))
        free.take(signals)
        return True

    def one_each(kind: str, noun: str, said: frozenset[str], signals: list[Signal]) -> None:
        for s in signals:
            own = _pascal(w for w in words_of(s.name) if w not in said)
            propose(kind, own if f"{own}{noun}".lower() in names else f"{own}{noun}", [s])

    one_each("emergency", "EmergencyStop", _set("e emergency emerg estop stop ok"), free.of(SignalClass.INPUT, _stops))
    one_each("button", "Button", BUTTON, free.of(SignalClass.INPUT, _is_pressed))
    one_each("lamp", "Light", LIT, free.outputs(LIT))
    one_each("horn", "Horn", SOUNDS, free.outputs(SOUNDS))
    people = len(found)
    _warm(free, propose)
    _vessels(free, propose)
    for turns, there in zip(free.outputs(INDEXES), free.inputs(IN_PLACE)):
        propose("turntable", "Turntable", [turns, there])
    _moved(free, propose)
    return (*found[people:], *found[:people])


Propose = Callable[[str, str, Sequence[Signal]], bool]


def _stops(signal: Signal) -> bool:
    words = words_of(signal.name)
    return not EMERGENCY.isdisjoint(words) or {"stop", "ok"} == set(words) or "estop" in "".join(words)


def _is_pressed(signal: Signal) -> bool:
    named = _speaks(signal, PRESSED) and "at" not in words_of(signal.name)  # `AtStart` is a place
    return named or not BUTTON.isdisjoint(words_of(signal.comment))


def _pascal(words: Iterable[str]) -> str:
    return "".join(w.capitalize() for w in words)


def _warm(free: _Free, propose: Propose) -> None:
    """What is heated: a temperature and its heaters, a thermostat of the same name with them."""
    temperatures = free.inputs(TEMPERATURE, None)
    for t in temperatures:
        about = tuple(w for w in _thing(t) if w not in TEMPERATURE)
        heaters = free.outputs(HEATS)
        if len(temperatures) > 1:
            heaters = [h for h in heaters if set(about) & set(_thing(h))]
        more = [
            s for s in free.of(SignalClass.INPUT, lambda s: True) if about and _same_thing(about, _thing(s))
        ]  # fmt: skip
        name = _pascal(about) or "Warmth"
        if heaters:
            _ = propose("thermal", name, [*heaters, t, *more]) or propose("thermal", name, [*heaters, t])


def _vessels(free: _Free, propose: Propose) -> None:
    """What is filled: a level with valves that speak of filling and emptying; only where there is one level. Without a number,
    valves and level switches about one thing: `Fill`, `Drain`, `LevelHigh`, `AboveLow`.
    """
    levels = free.inputs(LEVEL, None)
    if len(levels) == 1:
        about = _pascal(w for w in _thing(levels[0]) if w not in LEVEL)
        valves, switches = free.outputs(FILLS), free.inputs(CONTENT)
        if valves:
            _ = propose("vessel", about or "Vessel", [*valves, levels[0], *switches]) or propose(
                "vessel", about or "Vessel", [*valves, levels[0]]
            )
    switches = [s for s in free.inputs(CONTENT) if WAYS.isdisjoint(words_of(s.name))]
    for thing in dict.fromkeys(map(_held, switches)):
        valves = [v for v in free.outputs(FILLS) if _held(v) == thing]
        if valves:
            propose("vessel", _pascal(thing) or "Vessel", [*valves, *(s for s in switches if _held(s) == thing)])


def _held(signal: Signal) -> tuple[str, ...]:
    """What a valve or a level switch is about: what is left of its name without what it does, or where it is."""
    return tuple(w for w in words_of(signal.name) if w not in FILLS | CONTENT | LEVEL | FILLERS | ABOUT_A_LEVEL)


def _moved(free: _Free, propose: Propose) -> None:
    """What moves: outputs and switches about one thing. With a confirmation that it runs it is a motor."""
    for group in _by_exact_thing(free):
        if all(s in free.left for s in group):
            propose("actuator", _pascal(_shared(group)), group)
    outputs = free.of(SignalClass.OUTPUT, lambda s: True)
    while outputs:
        first = outputs[0]
        drives = [o for o in outputs if _same_thing(_thing(first), _thing(o))]
        switches = free.of(SignalClass.INPUT, lambda s, o=first: _same_thing(_thing(o), _thing(s)))  # type: ignore[misc]
        outputs = [o for o in outputs if o not in drives]
        name = _pascal(w for w in _thing(drives[0]) if all(any(alike(w, o) for o in _thing(s)) for s in switches))
        switches = switches or _only_ends(free, drives)
        if switches and any(_speaks(s, RUNS) for s in switches):
            propose("motor", name, [*drives, *switches])
        elif switches:
            propose("actuator", name, [*drives, *switches])
        elif any(_speaks(d, TURNS) for d in drives):
            propose("motor", name, drives)


def _only_ends(free: _Free, drives: Sequence[Signal]) -> list[Signal]:
    """Switches that say a way and nothing else, `AtOut` and `AtIn`, where only these drives go that way: `RollOut` and `RollIn`."""
    ways = {w for d in drives for w in words_of(d.name) if w in WAYS}
    others = free.of(SignalClass.OUTPUT, lambda s: s not in drives and not ways.isdisjoint(words_of(s.name)))
    if not ways or others or not _thing(drives[0]):
        return []
    return free.of(SignalClass.INPUT, lambda s: not _thing(s) and not ways.isdisjoint(words_of(s.name)))


def _by_exact_thing(free: _Free) -> list[list[Signal]]:
    """Outputs and switches whose names differ in one word alone, which says the way: the largest groups first.

    `OpenUpLeft` and `UpLeftShut` are about `up left`, though `Up` says a way too.
    """
    groups: dict[tuple[str, ...], list[Signal]] = {}
    for s in free.of(SignalClass.OUTPUT, lambda _: True) + free.of(SignalClass.INPUT, lambda _: True):
        words = [w for w in words_of(s.name) if w not in FILLERS]
        for at, word in enumerate(words):
            if word in WAYS and len(words) > 1:
                groups.setdefault(tuple(sorted(words[:at] + words[at + 1 :])), []).append(s)
    whole = [g for g in groups.values() if len({s.cls for s in g}) == 2]
    return sorted(whole, key=len, reverse=True)


def _shared(signals: Sequence[Signal]) -> list[str]:
    """The words of the first name that all names have."""
    return [w for w in words_of(signals[0].name) if all(w in words_of(s.name) for s in signals)]


def make_proposed(project: Project, chosen: Iterable[NewDevice]) -> Project:
    """The machine file with these devices, wired, on free places of the board; a contact that opens when it is pressed is so in the
    list too. Raises EditError if a signal finds no terminal any more."""
    for new in chosen:
        device = device_of(project, new.kind, new.signals, free_cell(project))
        closed = new.kind in ("button", "emergency") and _opens_when_pressed(project, new.signals[0])
        if closed:
            if new.kind == "button":
                device = replace(device, parameters=(("normally_closed", 1.0),))
            signals = (
                replace(s, contact="nc", initial=True) if s.name == new.signals[0] else s for s in project.signals
            )
            project = replace(project, signals=tuple(signals))
        if new.kind == "lamp" and (colour := _colour(new.signals[0])) is not None:
            device = replace(device, parameters=(("colour", float(colour)),))
        project = add_item(project, "devices", replace(device, name=free_name(new.name, taken_names(project))))
    return project


def _opens_when_pressed(project: Project, name: str) -> bool:
    """Whether a contact that stops is closed at rest: its name says so, or the logic asks for it as it stands, `Start AND Stop`."""
    words = set(words_of(name))
    if words.isdisjoint(STOPS):
        return False
    if "ok" in words:
        return True
    texts = [project.opening, *(t.condition for q in project.sequences for t in q.transitions)]
    texts += [i.condition for i in project.interlocks] + [b.text for q in project.sequences for b in q.bodies]
    whole = "\n".join(texts)
    asked = len(re.findall(rf"\b{name}\b", whole, re.IGNORECASE))
    return asked > len(re.findall(rf"\bNOT\s+\(?\s*{name}\b", whole, re.IGNORECASE)) == 0


def _colour(signal: str) -> int | None:
    """What a lamp shines in that says this: red for what is wrong, green for what runs; None for any other."""
    words = set(words_of(signal))
    meant = next((c for c, said in (("red", WRONG), ("green", WELL)) if words & said), None)
    return None if meant is None else COLOURS.index(meant)
