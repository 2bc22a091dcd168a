"""The acceptance record as one HTML file: brief, coverage, scenarios, signals, sequences, findings, lines to sign."""

from __future__ import annotations

from importlib.resources import files
from typing import Any

import jinja2

from spokeshave import __version__
from spokeshave.language.literals import time_text, value_text
from spokeshave.model.chart_texts import block_text
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.project import Project
from spokeshave.verify.check import look_over
from spokeshave.verify.coverage import coverage
from spokeshave.verify.scenarios import Result


def record_html(project: Project, results: list[Result], found: list[Diagnostic], date: str) -> str:
    """The record's text. `date` is printed as given; nothing in it depends on the clock or the machine."""
    environment = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined)
    template = environment.from_string((files("spokeshave.verify") / "record.html").read_text(encoding="utf-8"))
    by_name = {r.scenario.name: r for r in results}
    return template.render(
        project=project,
        date=date,
        version=__version__,
        coverage=coverage(project, by_name, found),
        results=results,
        bars=[_bars(r) for r in results],
        findings=found,
        waived=look_over(project).waived,
        value_text=value_text,
        time_text=time_text,
        block_text=block_text,
    )


def _bars(result: Result) -> list[dict[str, Any]]:
    """Step bars of a run, in per mille of its length, for the evidence picture."""
    session = result.session
    if session is None or not session.trace.scan_count:
        return []
    trace, total = session.trace, session.trace.scan_count
    rows: list[dict[str, Any]] = []
    for q in session.program.sequences:
        pieces: list[dict[str, Any]] = []
        for s in q.steps:
            for a, b in trace.windows(f"{q.name}.{s.name}.X"):
                pieces.append({"x": 1000 * a / total, "w": 1000 * (b - a) / total, "name": s.name, "number": s.number})
        pieces.sort(key=lambda p: float(p["x"]))
        rows.append({"name": q.name, "pieces": pieces})
    return rows
