"""Scenario results as JUnit XML: a test suite a project, a test case a scenario or each choice of its lists."""

from __future__ import annotations

import re
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from spokeshave.model.diagnostics import Diagnostic
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import Result, Run
from spokeshave.verify.sweep.matrix import Matrix

_ILLEGAL = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def junit(project_name: str, results: list[Result], found: list[Diagnostic]) -> str:
    """The XML text. A finding of severity error fails the test case `check`."""
    errors = [d for d in found if d.severity == "error"]
    cases = [(r, run) for r in results for run in r.runs or (None,)]
    failed = sum(_outcome(*c) is not Outcome.PASS for c in cases) + bool(errors)
    suite = Element("testsuite", name=_clean(project_name), tests=str(len(cases) + 1), failures=str(failed))
    check = SubElement(suite, "testcase", classname="check", name="static check")
    if errors:
        SubElement(check, "failure", message=f"{len(errors)} errors").text = _clean("\n".join(map(str, errors)))
    for r, run in cases:
        label = f" [{run.label}]" if run is not None and run.label else ""
        group = f"scenario.{r.scenario.group}" if r.scenario.group else "scenario"
        case = SubElement(suite, "testcase", classname=_clean(group), name=_clean(r.scenario.name + label))
        outcome = _outcome(r, run)
        if outcome is not Outcome.PASS:
            lines = _problems(r) if run is None else _verdicts(run, bad_only=True)
            SubElement(case, "failure", message=outcome.value).text = _clean("\n".join(lines))
    indent(suite)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(suite, encoding="unicode") + "\n"


def sweep_junit(project_name: str, matrix: Matrix) -> str:
    """A fault sweep: a test case a cell, by fault. A bad cell fails unless it is explained; then it is skipped."""
    cells = matrix.in_order()
    suite = Element("testsuite", name=_clean(f"{project_name}: fault sweep"), tests=str(len(cells)),
                    failures=str(len(matrix.open())))  # fmt: skip
    for c in cells:
        case = SubElement(suite, "testcase", classname=_clean(f"faults.{c.fault}"), name=_clean(c.step))
        reason = matrix.explained(c)
        if c.verdict.is_bad and reason is not None:
            SubElement(case, "skipped", message=_clean(f"{c.verdict.value}: {reason.reason}"))
        elif c.verdict.is_bad:
            SubElement(case, "failure", message=c.verdict.value).text = _clean(c.because)
    indent(suite)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(suite, encoding="unicode") + "\n"


def lines_of(result: Result, bad_only: bool = False) -> list[str]:
    """What decided a result, a line each; runs of a list begin with their choice."""
    out = _problems(result)
    for run in result.runs:
        out += [f"{run.label}: {line}" if run.label else line for line in _verdicts(run, bad_only)]
    return out


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
