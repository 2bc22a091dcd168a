"""Scenario results as JUnit XML: a test suite a project, a test case a scenario."""

from __future__ import annotations

import re
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from spokeshave.model.diagnostics import Diagnostic
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import Result

_ILLEGAL = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def junit(project_name: str, results: list[Result], found: list[Diagnostic]) -> str:
    """The XML text. A finding of severity error fails the test case `check`."""
    errors = [d for d in found if d.severity == "error"]
    failed = sum(r.outcome is not Outcome.PASS for r in results) + bool(errors)
    suite = Element("testsuite", name=_clean(project_name), tests=str(len(results) + 1), failures=str(failed))
    check = SubElement(suite, "testcase", classname="check", name="static check")
    if errors:
        SubElement(check, "failure", message=f"{len(errors)} errors").text = _clean("\n".join(map(str, errors)))
    for r in results:
        case = SubElement(suite, "testcase", classname="scenario", name=_clean(r.scenario.name))
        if r.outcome is not Outcome.PASS:
            SubElement(case, "failure", message=r.outcome.value).text = _clean("\n".join(lines_of(r, bad_only=True)))
    indent(suite)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(suite, encoding="unicode") + "\n"


def lines_of(result: Result, bad_only: bool = False) -> list[str]:
    """What decided a result, a line each."""
    out = [f"line {p.line}: {p.message}" + (f"; {p.advice}" if p.advice else "") for p in result.problems]
    out += [
        f"{v.outcome.value}, {v.time_ms} ms, line {v.line}: {v.text} ({v.because})"
        for v in result.verdicts
        if not (bad_only and v.outcome is Outcome.PASS)
    ]
    return [*out, result.stopped] if result.stopped else out


def _clean(text: str) -> str:
    return _ILLEGAL.sub("?", text)
