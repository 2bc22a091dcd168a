"""Numbers that a step gives an output while it is active, `Speed := 0.8`, or an internal at its entry, `Frame := Frame + 1`:
typed as `0.8` or `+1` into a cell of the sheet.

Such a number is a block on a body that is one assignment, N for an output, P1 for an internal; the body is made, shared
between steps with the same number, and taken away with its last block. Any such body gives an output its number; for an
internal it is one whose name begins with that of the internal, since a counting body by another name has a column of its own.
"""

from __future__ import annotations

import re
from dataclasses import replace

from spokeshave.model.edits import EditError, edit_sequence, free_name, replaced, step_index, taken_names
from spokeshave.model.project import Action, Body, Project, Qualifier, Sequence, Signal, SignalClass, Step, Type

_ONE = re.compile(r"\s*([A-Za-z_]\w*)\s*:=\s*([^;]+?)\s*;\s*")


_BLOCKS = {SignalClass.OUTPUT: Qualifier.N, SignalClass.INTERNAL: Qualifier.P1}


def takes_number(signal: Signal | None) -> bool:
    """Whether steps can give a signal a number."""
    return signal is not None and signal.type is not Type.BOOL and signal.cls in _BLOCKS


def _typed(signal: Signal, value: str) -> str:
    """How the right side of an assignment is typed into a cell."""
    if signal.cls is SignalClass.OUTPUT:
        return value
    by = re.fullmatch(rf"{signal.name}\s*([-+])\s*([\w.#]+)", value, re.IGNORECASE)
    return f"{by[1]}{by[2]}" if by else f"= {value}" if value[:1] in "+-" else value


def _value(signal: Signal, text: str) -> str:
    """The right side of the assignment behind a typed text: `+1` counts an internal, `= -1` is a number with a sign."""
    by = re.fullmatch(r"([-+])\s*(\S+)", text) if signal.cls is SignalClass.INTERNAL else None
    text = (by[2] if by else text).removeprefix("=").strip()
    if signal.type is Type.REAL and re.fullmatch(r"[-+]?[0-9]+", text):
        text = f"{text}.0"
    elif signal.type is Type.TIME and text[:1].isdigit():
        text = f"T#{text}"
    return f"{signal.name} {by[1]} {text}" if by else text


def _body_name(signal: Signal, text: str) -> str:
    """A name that says what the body does, as far as a name can: `Frame_Plus1`, `Frame_Is0`."""
    by = re.fullmatch(r"([-+=]?)\s*(\d+)", text) if signal.cls is SignalClass.INTERNAL else None
    word = {"+": "Plus", "-": "Minus"}.get(by[1], "Is") if by else "Value"
    return f"{signal.name}_{word}{by[2] if by else ''}"


def number_of(project: Project, sequence: Sequence, body: str) -> tuple[str, str] | None:
    """The number variable a body gives a value, and that as it is typed; None for any other body."""
    text = next((b.text for b in sequence.bodies if b.name.lower() == body.lower()), "")
    found = _ONE.fullmatch(text)
    signal = project.signal(found[1]) if found else None
    if found is None or signal is None or not takes_number(signal):
        return None
    if signal.cls is SignalClass.INTERNAL and not body.lower().startswith(f"{signal.name.lower()}_"):
        return None
    return signal.name, _typed(signal, found[2])


def number_targets(project: Project, sequence: Sequence) -> set[str]:
    """The signals that steps give numbers, in lower case."""
    given = {a.target.lower() for s in sequence.steps for a in s.actions}
    return {
        n[0].lower() for b in sequence.bodies if b.name.lower() in given and (n := number_of(project, sequence, b.name))
    }


def number_in(project: Project, sequence: Sequence, step: Step, target: str) -> str | None:
    """The number a step gives a variable; None if it gives none."""
    signal = project.signal(target)
    for a in step.actions:
        if signal is not None and a.qualifier is _BLOCKS.get(signal.cls):
            number = number_of(project, sequence, a.target)
            if number is not None and number[0].lower() == target.lower():
                return number[1]
    return None


def put_number(project: Project, sequence: str, step: str, target: str, text: str) -> Project:
    """A step that gives a number variable another value, or none for an empty text. `text` is a value or an expression;
    `+1` and `-1` count an internal.

    Raises EditError for a variable that is no number output and no number internal.
    """
    signal = project.signal(target)
    if signal is None or not takes_number(signal):
        raise EditError(f"{target} is no output and no internal that takes a number")
    if ";" in text or ":=" in text:
        raise EditError(f"{text!r} is no value; type a number such as 0.8, or a setting")
    value = _value(signal, text)
    taken = taken_names(project)

    def edit(q: Sequence) -> Sequence:
        at = step_index(q, step)
        mine = {b.name.lower() for b in q.bodies if (n := number_of(project, q, b.name)) and n[0] == signal.name}
        rest = tuple(a for a in q.steps[at].actions if a.target.lower() not in mine)
        bodies = q.bodies
        if value:
            wanted = f"{signal.name} := {value};"
            body = next((b for b in bodies if b.name.lower() in mine and b.text.strip() == wanted), None)
            if body is None:
                body = Body(free_name(_body_name(signal, text), taken), wanted)
                bodies = (*bodies, body)
            rest = (*rest, Action(_BLOCKS[signal.cls], body.name))
        steps = replaced(q.steps, at, replace(q.steps[at], actions=rest))
        used = {a.target.lower() for s in steps for a in s.actions}
        kept = tuple(b for b in bodies if b.name.lower() not in mine or b.name.lower() in used)
        return replace(q, steps=steps, bodies=kept)

    return edit_sequence(project, sequence, edit)
