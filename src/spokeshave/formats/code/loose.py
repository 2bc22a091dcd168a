"""A machine file that speaks of what is not there has no code."""

from __future__ import annotations

from spokeshave.language.sub_sequences import run_problems, without_runs
from spokeshave.model.diagnostics import quoted
from spokeshave.model.project import Project


def hangs_loose(project: Project) -> str:
    """What of a machine file speaks of something that is not there, in a few words; empty for nothing."""
    narrow = next((t.name for t in project.tables if any(len(row) != len(t.columns) for row in t.rows)), "")
    if narrow:
        return f"a row of {quoted(narrow)} has another width than its columns"
    if wrong := run_problems(project):
        return wrong[0].message
    project = without_runs(project)
    signals = {s.name.lower() for s in project.signals}
    for q in project.sequences:
        steps = {s.name for s in q.steps}
        ends = [q.initial, *(n for t in q.transitions for n in (*t.sources, *t.targets))]
        if lost := next((n for n in ends if n not in steps), ""):
            return f"{q.name} has no step {quoted(lost)}"
        known = signals | {b.name.lower() for b in q.bodies}
        if lost := next((a.target for s in q.steps for a in s.actions if a.target.lower() not in known), ""):
            return f"there is no signal or body {quoted(lost)}"
    there = {f"{q.name}.{s.name}".lower() for q in project.sequences for s in q.steps}
    lost = next((n for t in project.trips for n in t.go_to if n.lower() not in there), "")
    return f"there is no step {quoted(lost)}" if lost else ""
