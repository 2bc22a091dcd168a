"""Findings that somebody has looked at and lets stand, each with a reason."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.edits import EditError, put_items
from spokeshave.model.project import Project, Waiver

MISTAKE = "mistake"
"""The code of a planted mistake that may survive: no finding."""


@dataclass(frozen=True, slots=True)
class Sorted:
    """Findings that are open, those that are waived with their reasons, and waivers that waive nothing any more."""

    open: tuple[Diagnostic, ...]
    waived: tuple[tuple[Diagnostic, str], ...]
    stale: tuple[Waiver, ...]


def place_text(d: Diagnostic) -> str:
    """Where a finding is, without line and column: a waiver stays when the text around it changes."""
    return str(d.place.spot(0, 0))


def sort_out(project: Project, found: Iterable[Diagnostic]) -> Sorted:
    """Errors are never waived."""
    reasons = {(w.code, w.place): w for w in project.waivers if w.code != MISTAKE}
    is_open: list[Diagnostic] = []
    waived: list[tuple[Diagnostic, str]] = []
    used: set[tuple[str, str]] = set()
    for d in found:
        key = (d.code, place_text(d))
        if key in reasons and d.severity is not Severity.ERROR:
            waived.append((d, reasons[key].reason))
            used.add(key)
        else:
            is_open.append(d)
    stale = tuple(w for key, w in reasons.items() if key not in used)
    is_open += [
        Diagnostic("waiver-stale", Severity.ADVICE, Place(item=project.name),
                   f"the waiver of {w.code} at {w.place} waives nothing any more", "take it away")
        for w in stale
    ]  # fmt: skip
    return Sorted(tuple(is_open), tuple(waived), stale)


def waive(project: Project, d: Diagnostic, reason: str) -> Project:
    """The finding lets stand for a reason. Raises `EditError` without one, and for an error."""
    if d.severity is Severity.ERROR:
        raise EditError("an error is mended, not waived")
    if len(reason.split()) < 2:
        raise EditError("say why it may stand, in a few words")
    kept = tuple(w for w in project.waivers if (w.code, w.place) != (d.code, place_text(d)))
    return put_items(project, "waivers", (*kept, Waiver(d.code, place_text(d), reason.strip())))


def unwaive(project: Project, code: str, place: str) -> Project:
    """Takes a waiver away."""
    return put_items(project, "waivers", tuple(w for w in project.waivers if (w.code, w.place) != (code, place)))
