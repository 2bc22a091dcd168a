"""Results as tables for a spreadsheet: scenarios, every judged row, requirements, accepted runs, findings."""

from __future__ import annotations

from collections.abc import Sequence

from spokeshave.model.diagnostics import Diagnostic
from spokeshave.verify.accepted import Difference
from spokeshave.verify.coverage import Shown
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import Result

Table = tuple[str, tuple[str, ...], list[tuple[str, ...]]]
"""Title, headings, rows."""


def results_tables(
    results: Sequence[Result], covered: Sequence[Shown], found: Sequence[Diagnostic] = (),
    compared: Sequence[tuple[str, Sequence[Difference]]] = (),
) -> list[Table]:  # fmt: skip
    """One table each; those without rows are left out, but that of scenarios. Times are seconds of the machine."""
    scenarios: list[tuple[str, ...]] = []
    rows: list[tuple[str, ...]] = []
    for r in results:
        shows = ", ".join(r.scenario.shows)
        if not r.runs:
            said = "; ".join(f"line {p.line}: {p.message}" for p in r.problems)
            scenarios.append((r.scenario.name, "", r.scenario.group, shows, r.outcome.value, "", said))
        for run in r.runs:
            bad = [v for v in run.verdicts if v.outcome is not Outcome.PASS]
            why = run.stopped or (f"{bad[0].text}: {bad[0].because}" if bad else "")
            seconds = f"{run.scans * run.project.period_ms / 1000:g}"
            scenarios.append((r.scenario.name, run.label, r.scenario.group, shows, run.outcome.value, seconds, why))
            for v in run.verdicts:
                at = "" if v.time_ms < 0 else f"{v.time_ms / 1000:g}"
                rows.append((r.scenario.name, run.label, str(v.line), v.text, v.outcome.value, at, v.because))
    tables: list[Table] = [
        ("Scenarios", ("Scenario", "Run", "Group", "Shows", "Verdict", "Ran (s)", "Why not"), scenarios),
        ("Rows", ("Scenario", "Run", "Line", "Row", "Verdict", "At (s)", "Because"), rows),
        ("Requirements", ("Requirement", "Text", "State", "Shown by"),
         [(c.requirement.ident, c.requirement.text, c.state, "; ".join(f"{link.name} ({link.state})" for link in c.links)) for c in covered]),
        ("Accepted runs", ("Run", "What", "At (s)", "Accepted at (s)", "Difference"),
         [(label, d.lane, f"{d.time_ms / 1000:g}", f"{d.accepted_ms / 1000:g}", d.text) for label, all_of in compared for d in all_of]),
        ("Findings", ("Severity", "Where", "What", "What to do"),
         [(d.severity.value, str(d.place), d.message, d.advice) for d in found]),
    ]  # fmt: skip
    return [t for t in tables if t[2] or t[0] == "Scenarios"]
