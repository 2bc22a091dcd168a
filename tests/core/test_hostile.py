"""Damaged and hostile files end in a message with a place, never in another exception, and quickly."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.formats.stimuli_csv import parse_stimuli
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.scenario import parse_scenario
from spokeshave.language.syntax import TextError
from spokeshave.model.project import Project, Scenario, Sequence, Signal, SignalClass, Step
from spokeshave.verify.check import findings
from spokeshave.verify.scenario_language import scenario_problems
from tests.clock import within
from tests.conftest import EXAMPLES

damage = settings(
    max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
)
PADDLE = Path(EXAMPLES / "paddle.st").read_text()
ROASTERY = Path(EXAMPLES / "roastery.spoke").read_text()
PIECES = st.sampled_from(
    [
        "(",
        ")",
        ";",
        ":=",
        "'",
        '"',
        "{",
        "}",
        "(*",
        "*)",
        "//",
        "\0",
        "END_STEP",
        "STEP",
        "T#",
        "16#",
        "\u2028",
        "é",
        "\n",
        "9" * 30,
        ".",
        "..",
        "%",
        "AT",
    ]
)


@st.composite
def damaged(draw: st.DrawFn, text: str) -> str:
    """A text with some stretches cut out, doubled, or overwritten."""
    for _ in range(draw(st.integers(1, 3))):
        at = draw(st.integers(0, max(0, len(text) - 1)))
        length = draw(st.integers(0, 40))
        kind = draw(st.integers(0, 2))
        stretch = text[at : at + length]
        text = text[:at] + (draw(PIECES) if kind == 0 else stretch * 2 if kind == 1 else "") + text[at + length :]
    return text


@damage
@given(damaged(PADDLE))
def test_damaged_iec_text_is_read_or_refused_with_a_line(text):
    try:
        project = parse_iec(text)
    except FormatError as error:
        assert error.message and (error.line >= 1 or "no sequence" in error.message or "too long" in error.message)
        return
    if not link_problems(project):
        Session(project).run_scans(5)
        assert parse_iec(write_iec(project)).sequences


@damage
@given(damaged(ROASTERY[:6000] + ROASTERY[-3000:]) | damaged(ROASTERY))
def test_damaged_machine_files_are_read_or_refused(text):
    try:
        project = spoke.loads(text)
    except FormatError as error:
        assert str(error)
        return
    found = findings(project)
    assert all(d.message for d in found)


@damage
@given(damaged("NOT Go AND (Halt OR RISING(Done)) AND Count >= 16#1F AND Step10.T < T#1m2s"))
def test_damaged_conditions_are_parsed_or_told_in_place(text):
    try:
        parse_expression(text)
    except TextError as error:
        (p,) = error.problems
        assert p.line >= 1 and p.column >= 1 and p.message
        assert text.count("\n") + 1 >= p.line


@damage
@given(
    damaged(
        "IF a THEN b := 1; ELSIF c THEN CASE n OF 1: d := 2; ELSE e := 3; END_CASE; END_IF; FOR i := 1 TO 3 DO f := i; END_FOR;"
    )
)
def test_damaged_bodies_are_parsed_or_told_in_place(text):
    try:
        parse_statements(text)
    except TextError as error:
        assert error.problems and all(p.line >= 1 and p.column >= 1 for p in error.problems)


@damage
@given(damaged(spoke.loads(ROASTERY).scenarios[1].text))
def test_damaged_scenarios_are_told_row_by_row(text):
    roastery = spoke.loads(ROASTERY)
    for p in (*parse_scenario(text).problems, *scenario_problems(roastery, Scenario("Odd", text))):
        assert 1 <= p.line <= max(1, len(text.splitlines())) and p.message


@damage
@given(st.text(max_size=200) | damaged("time_ms,signal,value\n10,Go,1\n20,Go,0\n"))
def test_any_text_as_stimuli_is_read_or_refused(text):
    project = Project(signals=(Signal("Go", SignalClass.INPUT),))
    try:
        rows = parse_stimuli(text, project)
    except FormatError as error:
        assert str(error)
    else:
        assert all(r.signal == "Go" and r.time_ms >= 0 for r in rows)


def large(closing: str) -> Project:
    return Project(
        signals=(Signal("Go", SignalClass.INPUT), Signal("Y", SignalClass.OUTPUT)), closing=closing,
        sequences=(Sequence("Main", "Idle", (Step("Idle", 10),)),),
    )  # fmt: skip


TEXTS = [
        "(" * 100_000, "Y := " + "(" * 140 + "Go" + ")" * 140 + ";", "Y := " + "NOT " * 3000 + "Go;", "IF Go THEN " * 400 + "END_IF;" * 400,
        "Y := " + "Go AND " * 3000 + "Go;", "(*" * 50_000, "Y := Go;" * 5000, "Y" * 500_000 + ";", "\0" * 1000, "Y := T#" + "9" * 5000 + "d;",
        "Y := " + "9" * 100_000 + " > 1;", "//" + "x" * 1_000_000, "\ufffd" * 1000, "Y := 1" + "/1" * 2000 + " > 0;",
]  # fmt: skip


HOSTILE, ENDLESS = 20, 8
"""Pieces of ordinary work, some four times what the worst takes (`tests/clock.py`)."""


@pytest.mark.quiet
@pytest.mark.parametrize("text", TEXTS)
def test_hostile_texts_end_soon(text):
    assert all(d.message for d in link_problems(large(text)))
    within(HOSTILE, lambda: link_problems(large(text)))


def test_hostile_texts_take_little_memory():
    """All of them one after the other in a program of its own, which says how large it grew."""
    code = (
        "import resource\n"
        "from tests.core.test_hostile import TEXTS, large\n"
        "from spokeshave.engine.link import link_problems\n"
        "for text in TEXTS: link_problems(large(text))\n"
        "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)\n"
    )
    root = Path(__file__).parent.parent.parent
    done = subprocess.run([sys.executable, "-c", code], cwd=root, capture_output=True, text=True, check=True)
    assert int(done.stdout) < 500_000, "kilobytes"


@pytest.mark.quiet
def test_a_body_that_never_ends_is_stopped_soon():
    def run() -> None:
        session = Session(large("WHILE TRUE DO Y := NOT Y; END_WHILE;"))
        session.run_scans(10)
        assert session.stopped is not None and session.k == 0

    within(ENDLESS, run)
