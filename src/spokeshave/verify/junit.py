"""Scenario results as JUnit XML: a test suite a project, a test case a scenario or each choice of its lists."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, datetime
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from spokeshave.model.diagnostics import Diagnostic
from spokeshave.verify.accepted import Difference
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import Result, Run
from spokeshave.verify.strength.report import Report
from spokeshave.verify.sweep.matrix import Matrix

_ILLEGAL = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def junit(
    project_name: str, results: list[Result], found: list[Diagnostic],
    compared: Sequence[tuple[str, Sequence[Difference]]] = (), at: datetime | None = None,
) -> str:  # fmt: skip
    """The XML text: whatever decides the exit code of `verify` is a test case. A finding of severity error fails the case
    `static check`; `compared` are accepted runs with their differences. Times are simulated seconds.
    """
    errors = [d for d in found if d.severity == "error"]
    cases = [(r, run) for r in results for run in r.runs or (None,)]
    failed = sum(_outcome(*c) is not Outcome.PASS for c in cases) + bool(errors) + sum(bool(d) for _, d in compared)
    suite = _suite(project_name, len(cases) + 1 + len(compared), failed, sum(_seconds(run) for _, run in cases), at)
    check = SubElement(suite, "testcase", classname="check", name="static check", time="0.000")
    if errors:
        _fail(check, "check", f"{len(errors)} errors", [str(d) for d in errors])
    for r, run in cases:
        label = f" [{run.label}]" if run is not None and run.label else ""
        group = f"scenario.{r.scenario.group}" if r.scenario.group else "scenario"
        case = SubElement(suite, "testcase", classname=_clean(group), name=_clean(r.scenario.name + label),
                          time=f"{_seconds(run):.3f}")  # fmt: skip
        outcome = _outcome(r, run)
        if outcome is not Outcome.PASS:
            lines = _problems(r) if run is None else _verdicts(run, bad_only=True)
            _fail(case, outcome.value, outcome.value, lines)
    for name, differences in compared:
        case = SubElement(suite, "testcase", classname="accepted", name=_clean(name), time="0.000")
        if differences:
            lines = [f"{max(d.time_ms, d.accepted_ms)} ms: {d.lane} {d.text}" for d in differences]
            _fail(case, "differs", f"{len(lines)} differences from the accepted run", lines)
    return _xml(suite)


def sweep_junit(project_name: str, matrix: Matrix, at: datetime | None = None) -> str:
    """A fault sweep: a test case a cell, by fault. A bad cell fails unless it is explained; then it is skipped. So does
    one that is worse than what was accepted.
    """
    cells = matrix.in_order()
    worse = {(c.cell.fault, c.cell.step) for c in matrix.changed() if c.is_worse}
    bad = [c for c in cells if (c.verdict.is_bad and matrix.explained(c) is None) or (c.fault, c.step) in worse]
    skipped = sum(c.verdict.is_bad and c not in bad for c in cells)
    seconds = sum(c.end_ms - c.injected_ms for c in cells) / 1000
    suite = _suite(f"{project_name}: fault sweep", len(cells), len(bad), seconds, at, skipped)
    for c in cells:
        time = f"{(c.end_ms - c.injected_ms) / 1000:.3f}"
        case = SubElement(suite, "testcase", classname=_clean(f"faults.{c.fault}"), name=_clean(c.step), time=time)
        reason = matrix.explained(c)
        if c in bad:
            _fail(case, c.verdict.value, c.verdict.value, [c.because])
        elif c.verdict.is_bad and reason is not None:
            SubElement(case, "skipped", message=_clean(f"{c.verdict.value}: {reason.reason}"))
    return _xml(suite)


def strength_junit(project_name: str, report: Report, at: datetime | None = None) -> str:
    """The mistakes: a test case each, by where it is. One that survives fails unless that is accepted; then it is skipped, as is one
    that changes nothing.
    """
    left = {j.index for j in report.unexplained}
    skipped = sum(j.state != "noticed" and j.index not in left for j in report.judged.values())
    suite = _suite(f"{project_name}: strength", len(report.judged), len(left), 0.0, at, skipped)
    for i, j in sorted(report.judged.items()):
        m = report.mistakes[i]
        case = SubElement(
            suite,
            "testcase",
            classname=_clean(f"strength.{m.place}"),
            name=_clean(f"{m.kind}: {m.words}"),
            time="0.000",
        )
        if i in left:
            _fail(case, "survived", m.sentence(), [report.proposal(j)])
        elif j.state != "noticed":
            SubElement(case, "skipped", message=_clean(report.reason(j) or j.how))
    return _xml(suite)


def _suite(name: str, tests: int, failures: int, seconds: float, at: datetime | None, skipped: int = 0) -> Element:
    when = (at or datetime.now(UTC)).replace(microsecond=0, tzinfo=None).isoformat()
    return Element("testsuite", name=_clean(name), tests=str(tests), failures=str(failures), errors="0",
                   skipped=str(skipped), time=f"{seconds:.3f}", timestamp=when)  # fmt: skip


def _fail(case: Element, kind: str, message: str, lines: list[str]) -> None:
    SubElement(case, "failure", type=_clean(kind), message=_clean(message)).text = _clean("\n".join(lines))


def _seconds(run: Run | None) -> float:
    return 0.0 if run is None else run.scans * run.project.period_ms / 1000


def _xml(suite: Element) -> str:
    indent(suite)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(suite, encoding="unicode") + "\n"


NEVER_DONE = "never done, since its moment did not come"
"""What is said of a row of a deed that no run came to."""


def lines_of(result: Result, bad_only: bool = False) -> list[str]:
    """What decided a result, a line each; runs of a list begin with their choice."""
    out = _problems(result)
    for run in result.runs:
        out += [f"{run.label}: {line}" if run.label else line for line in _verdicts(run, bad_only)]
    return out + [f"line {line}: {NEVER_DONE}: {text}" for line, text in result.undone]


def _problems(result: Result) -> list[str]:
    return [f"line {p.line}: {p.message}" + (f"; {p.advice}" if p.advice else "") for p in result.problems]


def _verdicts(run: Run, bad_only: bool) -> list[str]:
    out = [
        f"{v.outcome.value}, {v.time_ms} ms, line {v.line}: {v.text} ({v.because})"
        for v in run.verdicts
        if not (bad_only and v.outcome is Outcome.PASS)
    ]
    return [*out, run.stopped] if run.stopped else out


def _outcome(result: Result, run: Run | None) -> Outcome:
    return result.outcome if run is None else run.outcome


def _clean(text: str) -> str:
    return _ILLEGAL.sub("?", text)
