"""Numbers that a step gives an output: `Speed := 0.8` while the step is active, typed as `0.8` into a cell of the sheet.

Such a number is an N block on a body that is one assignment; the body is made, shared between steps with the same number,
and taken away with its last block.
"""

from __future__ import annotations

import re
from dataclasses import replace

from spokeshave.model.edits import EditError, edit_sequence, free_name, replaced, step_index, taken_names
from spokeshave.model.project import Action, Body, Project, Qualifier, Sequence, SignalClass, Step, Type

_ONE = re.compile(r"\s*([A-Za-z_]\w*)\s*:=\s*([^;]+?)\s*;\s*")


def number_of(project: Project, sequence: Sequence, body: str) -> tuple[str, str] | None:
    """The number variable a body gives a value, and the value; None for any other body."""
    text = next((b.text for b in sequence.bodies if b.name.lower() == body.lower()), "")
    found = _ONE.fullmatch(text)
    signal = project.signal(found[1]) if found else None
    if found is None or signal is None or signal.type is Type.BOOL or signal.cls is not SignalClass.OUTPUT:
        return None
    return signal.name, found[2]


def number_targets(project: Project, sequence: Sequence) -> set[str]:
    """The outputs that steps give numbers, in lower case."""
    given = {a.target.lower() for s in sequence.steps for a in s.actions}
    return {
        n[0].lower() for b in sequence.bodies if b.name.lower() in given and (n := number_of(project, sequence, b.name))
    }


def number_in(project: Project, sequence: Sequence, step: Step, target: str) -> str | None:
    """The number a step gives a variable; None if it gives none."""
    for a in step.actions:
        if a.qualifier is Qualifier.N:
            number = number_of(project, sequence, a.target)
            if number is not None and number[0].lower() == target.lower():
                return number[1]
    return None


def put_number(project: Project, sequence: str, step: str, target: str, text: str) -> Project:
    """A step that gives a number variable another value, or none for an empty text. `text` is a value or an expression.

    Raises EditError for a variable that is no number output.
    """
    signal = project.signal(target)
    if signal is None or signal.type is Type.BOOL or signal.cls is not SignalClass.OUTPUT:
        raise EditError(f"{target} is no output that takes a number")
    if ";" in text or ":=" in text:
        raise EditError(f"{text!r} is no value; type a number such as 0.8, or a setting")
    value = f"{text}.0" if signal.type is Type.REAL and re.fullmatch(r"[-+]?[0-9]+", text) else text
    value = f"T#{value}" if signal.type is Type.TIME and value[:1].isdigit() else value
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
                body = Body(free_name(f"{signal.name}_Value", taken), wanted)
                bodies = (*bodies, body)
            rest = (*rest, Action(Qualifier.N, body.name))
        steps = replaced(q.steps, at, replace(q.steps[at], actions=rest))
        used = {a.target.lower() for s in steps for a in s.actions}
        kept = tuple(b for b in bodies if b.name.lower() not in mine or b.name.lower() in used)
        return replace(q, steps=steps, bodies=kept)

    return edit_sequence(project, sequence, edit)
