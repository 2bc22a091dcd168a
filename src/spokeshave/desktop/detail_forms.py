"""Which rows the details have for each kind of item: the file, sequences, steps, transitions, signals, blocks, devices."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from spokeshave.chart.labels import block_text
from spokeshave.desktop.detail_rows import Button, Change, Check, Choice, Line, Note, Rows
from spokeshave.desktop.device_form import device_rows, device_title
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.homes import home_in_words, proposed_home, set_home_value
from spokeshave.language.literals import read_value, value_text
from spokeshave.language.rename import rename_body, rename_instance, rename_sequence, rename_signal, rename_step
from spokeshave.language.sub_sequences import put_block
from spokeshave.model import edits, flow_edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Sequence, SignalClass, Type
from spokeshave.model.sequence_edits import delete_sequence, move_sequence

Follow = Callable[[str, str, str], None]
"""Tells that the item has another name from now on: kind, sequence, name."""
HINT = "Select something to edit it here: in the outline, in a face, on the board."


def title_of(project: Project, place: Place) -> str:
    """The heading of the form of an item."""
    q = project.sequence(place.sequence) if place.sequence else None
    step = q.step(place.step) if q is not None and place.step else None
    if q is not None and step is not None:
        return f"Step {step.number} {step.name}" + (" (initial)" if step.name == q.initial else "")
    if q is not None and place.kind == "transition" and 0 <= place.index < len(q.transitions):
        t = q.transitions[place.index]
        return f"From {' + '.join(t.sources)} to {' + '.join(t.targets)}"
    if place.kind == "device" and (device := project.device(place.item)) is not None:
        return device_title(device)
    if place.kind == "sequence" and project.sequence(place.item) is not None:
        return f"Sequence {place.item}"
    if place.kind == "signal" and (signal := project.signal(place.item)) is not None:
        return f"{signal.cls.value.capitalize()} {signal.name}"
    if place.kind == "instance" and any(i.name.lower() == place.item.lower() for i in project.instances):
        return f"Block {place.item}"
    if place.kind == "project":
        return f"Machine file {project.name}"
    if place.kind == "body" and q is not None:
        return f"Body {place.item} of {q.name}"
    return "Details"


def rows_of(project: Project, place: Place, follow: Follow) -> Rows:
    """The form of the item at `place`; a hint where there is none."""
    q = project.sequence(place.sequence) if place.sequence else None
    if q is not None and place.step and q.step(place.step) is not None:
        return _step(project, q, place.step, follow)
    if q is not None and place.kind == "transition" and 0 <= place.index < len(q.transitions):
        return _transition(q, place.index)
    if q is not None and place.kind == "body" and any(b.name.lower() == place.item.lower() for b in q.bodies):
        return _body(q, place.item, follow)
    if place.kind == "device" and (device := project.device(place.item)) is not None:
        return device_rows(project, device, follow)
    if place.kind == "sequence" and (chosen := project.sequence(place.item)) is not None:
        return _sequence(project, chosen, follow)
    if place.kind == "signal" and project.signal(place.item) is not None:
        return _signal(project, place.item, follow)
    if place.kind == "instance" and any(i.name.lower() == place.item.lower() for i in project.instances):
        return _instance(project, place.item, follow)
    if place.kind == "project":
        return _project(project)
    return [Note(HINT)]


def _time(text: str) -> str:
    return f"T#{text}" if text[:1].isdigit() else text


def _step(project: Project, q: Sequence, name: str, follow: Follow) -> Rows:
    s = q.step(name)
    assert s is not None

    def field(key: str) -> Change:
        return lambda p, t: edits.change_step(p, q.name, s.name, **{key: t})

    def time(key: str) -> Change:
        return lambda p, t: edits.change_step(p, q.name, s.name, **{key: _time(t)})

    def rename(p: Project, t: str) -> Project:
        after = rename_step(p, q.name, s.name, t)
        follow("step", q.name, t)
        return after

    def number(p: Project, t: str) -> Project:
        if not t.lstrip("-").isdigit():
            raise EditError(f"{t!r} is not a step number; type a whole number such as 25")
        return edits.change_step(p, q.name, s.name, number=int(t))

    trips = tuple(t.name for t in project.trips)
    rows: Rows = [
        Line("Name", f"Rename {s.name}", rename, "Step.name", value=s.name),
        Line("Number", f"Number {s.name}", number, "Step.number", value=str(s.number)),
        Line("Comment", f"Comment of {s.name}", field("comment"), "Step.comment", value=s.comment),
        Line("Shortest", f"Shortest time of {s.name}", time("shortest"), "Step.shortest", value=s.shortest,
             hint="T#500ms"),
        Line("Longest", f"Longest time of {s.name}", time("longest"), "Step.longest", value=s.longest, hint="T#5s"),
        Choice("When late", f"Response of {s.name}", field("response"), "Step.response", value=s.response,
               choices=("alarm", "hold", *trips)),
        Line("Permissive", f"Permissive of {s.name}", field("permissive"), "Step.permissive", value=s.permissive,
             hint="TRUE lets in", condition=q.name),
        Line("Add an action", f"Action of {s.name}", lambda p, t: _add_action(p, q, s.name, t), "Action.target",
             hint="L 2s Drive", tip="A qualifier, a time where it takes one, and an output, an internal or a body; "
             "a new name makes a body"),
    ]  # fmt: skip
    if s.actions:
        rows.append(Note("Actions: " + ", ".join(block_text(a) for a in s.actions)))
    return rows


def _add_action(project: Project, q: Sequence, step: str, text: str) -> Project:
    """An action block more; a name that nothing has is the name of a new body, to be written in the code face."""
    here = project.sequence(q.name)
    if here is None or not text.strip():
        return project
    found = here.step(step)
    return put_block(project, q.name, step, len(found.actions) if found is not None else 0, text)


def _transition(q: Sequence, index: int) -> Rows:
    t = q.transitions[index]

    def field(key: str) -> Change:
        return lambda p, text: flow_edits.change_transition(p, q.name, index, **{key: text})

    def priority(p: Project, text: str) -> Project:
        if text and not text.isdigit():
            raise EditError(f"{text!r} is not a priority; type a whole number, 1 comes first")
        return flow_edits.change_transition(p, q.name, index, priority=int(text) if text else None)

    rank = "" if t.priority is None else str(t.priority)
    return [
        Line("Condition", f"Condition out of {t.sources[0]}", field("condition"), "Transition.condition", value=t.condition,
             condition=q.name),
        Line("Priority", "Priority of a transition", priority, "Transition.priority", value=rank, hint="1 is first"),
        Line("Name", "Name of a transition", field("name"), "Transition.name", value=t.name, hint="optional"),
    ]  # fmt: skip


def _body(q: Sequence, name: str, follow: Follow) -> Rows:
    def rename(p: Project, t: str) -> Project:
        after = rename_body(p, q.name, name, t)
        follow("body", q.name, t)
        return after

    return [
        Line("Name", f"Rename {name}", rename, "Body.name", value=name),
        Note("Its text is written in the code face."),
    ]


def _sequence(project: Project, q: Sequence, follow: Follow) -> Rows:
    def field(key: str) -> Change:
        return lambda p, t: edits.change_sequence(p, q.name, **{key: t})

    def rename(p: Project, t: str) -> Project:
        after = rename_sequence(p, q.name, t)
        follow("sequence", "", t)
        return after

    def retain(p: Project, t: str) -> Project:
        return edits.change_sequence(p, q.name, retain=t == "1")

    keeps = {"keep": "are kept", "drop": "go off"}
    words = {v: k for k, v in keeps.items()}
    at = project.sequences.index(q)
    rows: Rows = [
        Line("Name", f"Rename {q.name}", rename, "Sequence.name", value=q.name),
        Line("Comment", f"Comment of {q.name}", field("comment"), "Sequence.comment", value=q.comment),
        Choice("Begins in", f"Initial step of {q.name}", lambda p, t: edits.change_sequence(p, q.name, initial=t),
               "Sequence.initial", value=q.initial, choices=tuple(s.name for s in q.steps)),
        Line("Hold when", f"Hold of {q.name}", field("hold_when"), "Sequence.hold_when", value=q.hold_when,
             hint="a condition", condition=q.name),
        Choice("Held outputs", f"Held outputs of {q.name}", lambda p, t: edits.change_sequence(p, q.name, hold_outputs=words[t]),
               "Sequence.hold_outputs", value=keeps[q.hold_outputs], choices=tuple(words)),
        Line("Restart when", f"Restart of {q.name}", field("restart_when"), "Sequence.restart_when", value=q.restart_when,
             hint="a condition", condition=q.name),
        Check("Keeps its step", f"Retain {q.name}", retain, "Sequence.retain", value=q.retain,
              tip="Where it stands survives a loss of power"),
    ]  # fmt: skip
    if at:
        rows.append(Button("Run it earlier", f"Move {q.name} up", lambda p, _: move_sequence(p, q.name, -1), "Project.sequences",
                           tip="Sequences run in their order in every scan"))  # fmt: skip
    if at + 1 < len(project.sequences):
        rows.append(
            Button("Run it later", f"Move {q.name} down", lambda p, _: move_sequence(p, q.name, 1), "Project.sequences")
        )
    rows.append(
        Button("Delete the sequence", f"Delete {q.name}", lambda p, _: delete_sequence(p, q.name), "Project.sequences")
    )
    return rows


def _signal(project: Project, name: str, follow: Follow) -> Rows:
    at = next(i for i, s in enumerate(project.signals) if s.name.lower() == name.lower())
    s = project.signals[at]

    def field(key: str) -> Change:
        return lambda p, t: edits.change_item(p, "signals", at, **{key: t})

    def rename(p: Project, t: str) -> Project:
        after = rename_signal(p, s.name, t)
        follow("signal", "", t)
        return after

    def value(key: str) -> Change:
        def put(p: Project, t: str) -> Project:
            read = read_value(t, s.type) if t else None
            return set_home_value(p, at, read) if key == "home" else edits.change_item(p, "signals", at, initial=read)

        return put

    def kind(p: Project, t: str) -> Project:
        return edits.change_item(p, "signals", at, type=Type(t), initial=None, home=None)

    def shown(v: object) -> str:
        return "" if v is None else value_text(v, s.type)  # type: ignore[arg-type]

    rows: Rows = [
        Line("Name", f"Rename {s.name}", rename, "Signal.name", value=s.name),
        Choice("Class", f"Class of {s.name}", lambda p, t: edits.change_item(p, "signals", at, cls=SignalClass(t)), "Signal.cls",
               value=s.cls.value, choices=tuple(c.value for c in SignalClass)),
        Choice("Type", f"Type of {s.name}", kind, "Signal.type", value=s.type.value, choices=tuple(t.value for t in Type)),
        Line("Address", f"Address of {s.name}", field("address"), "Signal.address", value=s.address, hint="%IX0.0"),
        Line("Initial", f"Initial value of {s.name}", value("initial"), "Signal.initial", value=shown(s.initial)),
        Line("Home", f"Home value of {s.name}", value("home"), "Signal.home", value=shown(s.home),
             tip="Its value when the machine is at home"),
        Check("Kept", f"Retain {s.name}", lambda p, t: edits.change_item(p, "signals", at, retain=t == "1"), "Signal.retain",
              value=s.retain, tip="Its value survives a loss of power"),
        Line("Unit", f"Unit of {s.name}", field("unit"), "Signal.unit", value=s.unit),
        Line("Comment", f"Comment of {s.name}", field("comment"), "Signal.comment", value=s.comment),
    ]  # fmt: skip
    if s.cls is SignalClass.INPUT and s.type is Type.BOOL:
        rows.insert(4, Choice("Contact", f"Contact of {s.name}", field("contact"), "Signal.contact", value=s.contact,
                              choices=("no", "nc")))  # fmt: skip
    return rows


def _instance(project: Project, name: str, follow: Follow) -> Rows:
    at = next(i for i, x in enumerate(project.instances) if x.name.lower() == name.lower())
    i = project.instances[at]

    def rename(p: Project, t: str) -> Project:
        after = rename_instance(p, i.name, t)
        follow("instance", "", t)
        return after

    own = project.routine(i.kind)
    names = [n for n, _ in BLOCKS[i.kind.upper()].inputs] if i.kind.upper() in BLOCKS else []
    names += [m.name for m in own.plain("input")] if own is not None else []
    inputs = ", ".join(f"{n} := ..." for n in names)
    kinds = (*(r.name for r in project.routines if r.is_block), *BLOCKS)
    return [
        Line("Name", f"Rename {i.name}", rename, "Instance.name", value=i.name),
        Choice("Kind", f"Kind of {i.name}", lambda p, t: edits.change_item(p, "instances", at, kind=t), "Instance.kind",
               value=own.name if own is not None else i.kind.upper(), choices=kinds),
        Note("called", f"Called in bodies and logic: {i.name}({inputs});"),
        Button("Delete the block", f"Delete {i.name}", lambda p, _: edits.remove_item(p, "instances", at), "Project.instances"),
    ]  # fmt: skip


def _project(project: Project) -> Rows:
    def field(key: str) -> Change:
        return lambda p, t: replace(p, **{key: t})  # type: ignore[arg-type]

    def period(p: Project, t: str) -> Project:
        text = t.lower().removesuffix("ms").strip()
        if not text.isdigit() or not 1 <= int(text) <= 1000:
            raise EditError(f"{t!r} is no scan period; 1 to 1000 ms are possible")
        return replace(p, period_ms=int(text))

    proposed = proposed_home(project)
    rows: Rows = [
        Line("Name", "Name of the machine", field("name"), "Project.name", value=project.name),
        Line("Comment", "Comment on the machine", field("comment"), "Project.comment", value=project.comment),
        Line("Scan period (ms)", "Scan period", period, "Project.period_ms", value=str(project.period_ms)),
        Line("Reset", "Reset of the machine", field("reset"), "Project.reset", value=project.reset, condition="-",
             hint="a condition", tip="When it rises, latching trips whose cause is gone end"),
        Line("Home", "Home of the machine", field("home"), "Project.home", value=project.home, condition="-",
             hint=proposed or "a condition: where the machine stands when it is at home"),
        Note("home", home_in_words(project)),
    ]  # fmt: skip
    if proposed and proposed != project.home:
        rows.append(Button("Take the home values", "Home from the signals", lambda p, _: replace(p, home=proposed),
                           "Project.home", tip=proposed))  # fmt: skip
    return rows
