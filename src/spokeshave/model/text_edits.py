"""Edits of texts that stand by themselves: bodies, opening and closing logic."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.model.project import Body, Sequence


def put_body(sequence: Sequence, name: str, text: str) -> Sequence:
    """A sequence whose body `name` has another text; a new body where there is none of that name."""
    if not any(b.name == name for b in sequence.bodies):
        return replace(sequence, bodies=(*sequence.bodies, Body(name, text)))
    bodies = tuple(replace(b, text=text) if b.name == name and b.text != text else b for b in sequence.bodies)
    return sequence if bodies == sequence.bodies else replace(sequence, bodies=bodies)
