"""The acceptance record as one HTML file: brief, coverage, scenarios, faults, study, signals, charts, findings, lines to sign."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any

from markupsafe import Markup

from spokeshave import __version__
from spokeshave.chart.labels import block_text
from spokeshave.language.literals import time_text, value_text
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.project import Project
from spokeshave.verify.alarm_list import alarm_list
from spokeshave.verify.cause_effect import Cause, Showing, matrix, shown
from spokeshave.verify.check import look_over
from spokeshave.verify.coverage import coverage
from spokeshave.verify.ledger import Standings
from spokeshave.verify.protection import Key
from spokeshave.verify.reach.answers import Study
from spokeshave.verify.reach.asked import Says
from spokeshave.verify.recipe_table import recipe_table
from spokeshave.verify.room.work import RoomReport
from spokeshave.verify.scenarios import Result
from spokeshave.verify.strength.report import Report
from spokeshave.verify.sweep.matrix import LETTERS, alike
from spokeshave.verify.sweep.matrix import Matrix as Sweep

if TYPE_CHECKING:
    import jinja2

NOT_RUN = "it was not done"
PARTS = ("Brief and coverage", "Scenarios", "Cause and effect", "Fault sweep", "Reachability study", "Strength", "Room", "Signals",
         "Recipes", "Sequences", "Machine", "Interlocks and trips", "Alarms", "Findings of the check", "Waived findings")  # fmt: skip
RECORD = "Acceptance record"

SAYS = {
    Says.GOOD: ("proven", "pass"),
    Says.BAD: ("no", "fail"),
    Says.MAY: ("may be", "warning"),
    Says.UNKNOWN: ("not decided", "open"),
}
"""Word and class of an answer."""


@cache
def _template() -> jinja2.Template:
    import jinja2  # takes its time

    environment = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined)
    return environment.from_string((files("spokeshave.verify") / "record.html").read_text(encoding="utf-8"))


def record_html(
    project: Project, results: list[Result], found: list[Diagnostic], date: str,
    charts: Mapping[str, str] | None = None, sweep: Sweep | str = NOT_RUN, study: Study | str = NOT_RUN, fingerprint: str = "",
    paged: str = "", only: Sequence[str] = (), subject: str = RECORD, sheets: Mapping[str, Any] | None = None,
    pictures: Mapping[str, str] | None = None, standing: Standings | None = None, judged: Report | None = None,
    measured: RoomReport | None = None,
) -> str:  # fmt: skip
    """The record's text: everything in one file. `date` is printed as given; nothing hangs on the clock or the machine.

    `charts` are SVG drawings by sequence, `fingerprint` tells which file it is about. In the place of a sweep or a study that
    was not done there may be the reason. With `paged` the contents have a mark for the number of each page, `<paged><n>.` for
    the n-th of `PARTS`.

    `only` some parts make a paper of its own about a `subject`, without title page; `sheets` are tables of sequences in the place
    of the lists of their steps, `pictures` are drawings (`board`, `timing`) as HTML, `standing` tells of verdicts that are kept,
    `judged` of mistakes that were planted, `measured` of the room.
    """
    template = _template()
    by_name = {r.scenario.name: r for r in results}
    acted, waived = shown(results), look_over(project).waived
    there = {
        "Waived findings": bool(waived), "Machine": bool(project.devices), "Strength": judged is not None, "Room": measured is not None,
        "Recipes": bool(project.recipes), "Alarms": bool(alarms := alarm_list(project)),
    }  # fmt: skip
    return template.render(
        project=project,
        date=date,
        version=__version__,
        fingerprint=fingerprint,
        coverage=coverage(project, by_name, found, standing),
        results=results,
        bars=[_bars(r) for r in results],
        findings=found,
        waived=waived,
        parts=only or [p for p in PARTS if there.get(p, True)],
        whole=not only,
        subject=subject,
        sheets=sheets or {},
        pictures={name: Markup(html) for name, html in (pictures or {}).items()},
        part=lambda title: Markup('<h2 id="{}">{}</h2>').format(anchor(title), title),
        anchor=anchor,
        paged=paged,
        charts={name: Markup(svg) for name, svg in (charts or {}).items()},
        matrix=matrix(project),
        shown_by=lambda cause: _shown_by(cause, acted),
        sweep=sweep,
        alike=[] if isinstance(sweep, str) else alike(sweep),
        letters={v.value: (letter, v.value) for letter, v in LETTERS.items()},
        study=study,
        says=SAYS,
        judged=judged,
        measured=measured,
        alarms=alarms,
        recipes=recipe_table(project),
        value_text=value_text,
        time_text=time_text,
        block_text=block_text,
    )


def anchor(title: str) -> str:
    """What a part is linked by."""
    return title.lower().replace(" ", "-")


def _shown_by(cause: Cause, acted: dict[Key, list[Showing]]) -> str:
    """The scenarios in which every rule of a row came into play."""
    if any(key not in acted for key in cause.keys):
        return ""
    return ", ".join(dict.fromkeys(s.scenario for key in cause.keys for s in acted[key]))


def _bars(result: Result) -> dict[str, Any]:
    """Step bars of a run, in per mille of its length, and a time axis, for the evidence picture; empty without a run."""
    session = result.session
    if session is None or not session.trace.scan_count:
        return {}
    trace, total = session.trace, session.trace.scan_count
    rows: list[dict[str, Any]] = []
    for q in session.program.sequences:
        pieces: list[dict[str, Any]] = []
        for s in q.steps:
            for a, b in trace.windows(f"{q.name}.{s.name}.X"):
                pieces.append({"x": 1000 * a / total, "w": 1000 * (b - a) / total, "name": s.name, "number": s.number})
        pieces.sort(key=lambda p: float(p["x"]))
        rows.append({"name": q.name, "pieces": pieces})
    seconds = total * session.program.period_ms / 1000
    step = next((s for s in (0.1, 0.5, 1, 2, 5, 10, 20, 60, 120, 300, 600, 1800, 3600) if seconds / s <= 8), seconds)
    axis = [
        (1000 * n * step / seconds, f"{n * step:g}")
        for n in range(int(seconds / step) + 1)
        if n * step < 0.95 * seconds
    ]
    return {"rows": rows, "axis": [*axis, (1000, f"{seconds:g} s")]}
