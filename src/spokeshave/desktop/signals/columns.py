"""The columns of the signal list: what they show, and the edit behind each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from spokeshave.desktop.field_words import SIGNALS
from spokeshave.desktop.tables import Column
from spokeshave.language.homes import set_home_value
from spokeshave.language.literals import read_value, value_text
from spokeshave.language.rename import name_problem, rename_signal
from spokeshave.model import edits
from spokeshave.model.addresses import address_problem, next_address
from spokeshave.model.project import Project, Signal, SignalClass, Type

NAME, CLASS, TYPE, ADDRESS, CONTACT, INITIAL, HOME, UNIT, DEVICE, STATE, COMMENT = range(11)


def _change(project: Project, row: int, **changes: object) -> Project:
    return edits.change_item(project, "signals", row, **changes)


def _put_class(project: Project, row: int, text: str) -> Project:
    """Another class; a signal of which nothing but the name was typed gets the usual type of that class."""
    s, cls = project.signals[row], SignalClass(text.lower())
    if s == Signal(s.name, s.cls, edits.usual_type(s.cls)):
        return _change(project, row, cls=cls, type=edits.usual_type(cls))
    return _change(project, row, cls=cls)


def _put_type(project: Project, row: int, text: str) -> Project:
    """Another type; an initial value that does not fit it goes back to the usual one."""
    return _change(project, row, type=Type(text.upper()), initial=None, home=None)


def _put_value(field: str) -> Callable[[Project, int, str], Project]:
    def put(project: Project, row: int, text: str) -> Project:
        kind = project.signals[row].type
        value = read_value(text, kind) if text else None
        return set_home_value(project, row, value) if field == "home" else _change(project, row, **{field: value})

    return put


def _has_contact(s: Signal) -> bool:
    return s.cls is SignalClass.INPUT and s.type is Type.BOOL


def _value(value: object, s: Signal) -> str:
    return "" if value is None else value_text(value, s.type)  # type: ignore[arg-type]


def name_trouble(project: Project, row: int, text: str) -> str:
    """What is wrong with a name while it is typed."""
    text = text.strip()
    if row < len(project.signals) and text.lower() == project.signals[row].name.lower():
        return ""
    return name_problem(text) or (
        f"{text} is already the name of something else" if text.lower() in edits.taken_names(project) else ""
    )


def _addresses(project: Project, row: int) -> list[str]:
    return [next_address(project.signals, row)]


def signal_columns(device: Callable[[Signal], str], state: Callable[[Signal], str]) -> list[Column]:
    """`device` tells what a signal is wired to, `state` whether it is used."""
    columns = [
        Column("Name", lambda s: s.name, lambda p, r, t: rename_signal(p, p.signals[r].name, t), 124,
               edit_name="Rename a signal", check=name_trouble, clears=False),
        Column("Class", lambda s: s.cls.value, _put_class, 66,
               [c.value for c in SignalClass], clears=False),
        Column("Type", lambda s: s.type.value, _put_type, 58, [t.value for t in Type], clears=False),
        Column("Address", lambda s: s.address, lambda p, r, t: _change(p, r, address=t), 70, words=_addresses,
               check=lambda p, r, t: address_problem(p.signals, r, t)),
        Column("Contact", lambda s: s.contact.upper() if _has_contact(s) else "",
               lambda p, r, t: _change(p, r, contact="nc" if t.lower() == "nc" else "no"), 68, ("NO", "NC"),
               applies=_has_contact, clears=False),
        Column("Initial", lambda s: _value(s.initial, s), _put_value("initial"), 62, right=True),
        Column("Home", lambda s: _value(s.home, s), _put_value("home"), 56, right=True),
        Column("Unit", lambda s: s.unit, lambda p, r, t: _change(p, r, unit=t), 44),
        Column("Device", device, None, 94),
        Column("Use", state, None, 84),
        Column("Comment", lambda s: s.comment, lambda p, r, t: _change(p, r, comment=t), 220),
    ]  # fmt: skip
    return [replace(c, says=SIGNALS[c.title]) for c in columns]
