"""What was worked out of a machine file is known of that file alone."""

from __future__ import annotations

from dataclasses import replace

import pytest

from spokeshave.engine.link import LinkError, link
from spokeshave.model.answers import Answers
from spokeshave.model.project import Project, Signal, SignalClass
from spokeshave.verify.check.run import look_over


def test_only_the_last_few_files_are_remembered_and_faults_are_not():
    asked: list[str] = []

    def work(project: Project) -> int:
        asked.append(project.name)
        return 1 // len(project.signals)

    answers = Answers(work, most=2)
    a, b, c = (Project(n, signals=(Signal("S", SignalClass.INPUT),)) for n in "ABC")
    assert [answers(p) for p in (a, b, a, b, c, a)] == [1] * 6 and asked == ["A", "B", "C", "A"]
    empty = Project("Empty")
    for _ in range(2):
        with pytest.raises(ZeroDivisionError):
            answers(empty)
    assert asked[4:] == ["Empty", "Empty"] and answers(replace(a)) == 1 and asked[-1] == "A"


def test_an_undo_has_its_findings_and_its_program_at_once(roastery):
    broken = replace(roastery, signals=roastery.signals[1:])
    found, program = look_over(roastery), link(roastery)
    assert any(d.severity == "error" for d in look_over(broken).open) and found is look_over(roastery)
    with pytest.raises(LinkError):
        link(broken)
    assert link(roastery) is program and look_over(broken) is not found
