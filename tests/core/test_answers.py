"""What was worked out of a machine file is known of that file alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, is_dataclass, replace
from functools import partial

import pytest

from spokeshave.engine.link import Linker, LinkError, link
from spokeshave.language.compile import Later, compile_units
from spokeshave.model.answers import Answers
from spokeshave.model.project import Instance, Member, Project, Routine, Signal, SignalClass, Step, Type
from spokeshave.verify.check.run import look_over
from spokeshave.verify.strength.planted import planted
from tests.core.projects import build_project


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


def told(x: object) -> object:
    """A linked program as plain values, its functions as what Python compiled them to."""
    if is_dataclass(x) and not isinstance(x, type):
        return type(x).__name__, [told(getattr(x, f.name)) for f in fields(x) if f.name != "project"]
    if isinstance(x, Mapping):
        return [(told(k), told(y)) for k, y in x.items()]
    if isinstance(x, (tuple, list)):
        return [told(y) for y in x]
    if isinstance(x, Later):
        return told(compile_units([x._unit])[0])
    if isinstance(x, partial):
        return told((x.func, x.args))
    code = getattr(x, "__code__", None)
    return repr(x) if code is None else (code.co_code, told(code.co_consts), code.co_names)


ROUTINES = (
    Routine("Twice", (Member("Num", "input", "INT"),), "Twice := Num * 2;", "INT"),
    Routine("Close", (Member("In", "input", "BOOL"), Member("Shut", "output", "BOOL")), "Shut := In;"),
)


def edits(project: Project, every: int) -> list[Project]:
    """Some of its small mistakes, and edits of what texts can name."""
    first = project.sequences[0]
    more = Step("More", 900)
    return [
        *(mistake.project for mistake in planted(project)[::every]),
        replace(project, signals=(Signal("New", SignalClass.INPUT), *project.signals)),
        replace(
            project, signals=tuple(replace(s, type=Type.DINT) if s.name == "Count" else s for s in project.signals)
        ),
        replace(project, sequences=(replace(first, steps=(more, *first.steps)), *project.sequences[1:])),
        replace(project, instances=(Instance("Other", "TON"), *project.instances)),
        replace(project, opening=project.opening + " Count := Twice(Num := Count);"),
    ]


@pytest.mark.parametrize("seed", range(6))
def test_what_an_edit_leaves_is_linked_as_if_for_the_first_time(seed):
    """Ways, texts, times, trips and names come and go; functions and blocks are called."""
    project = replace(
        build_project(seed), routines=ROUTINES, instances=(Instance("Near", "Close"), Instance("W", "TON"))
    )
    project = replace(project, opening="Near(In := A); W(IN := Twice(Num := 2) > 3, PT := T#50ms);")
    before = Linker(project)
    assert before.compiled() is not None, before.found
    kept = 0
    for edited in edits(project, every=7):
        anew, again = Linker(edited), Linker(edited, [before])
        assert [d.message for d in again.found] == [d.message for d in anew.found]
        assert (anew.compiled() is None) is (again.compiled() is None)
        if anew.compiled() is not None:
            kept += len(before.texts.kept.code.keys() & again.texts.kept.code.keys())
            assert told(again.compiled()._program) == told(anew.compiled()._program)
    assert kept > 50
