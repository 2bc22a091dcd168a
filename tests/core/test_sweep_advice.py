"""What a sweep says first of its reference, and what it says would make a bad cell a caught one."""

from __future__ import annotations

from dataclasses import replace

import pytest

from spokeshave.model.project import Device, Project, Scenario, Signal, SignalClass, Type
from spokeshave.verify.sweep.advice import causes
from spokeshave.verify.sweep.cycle import usual_cycle
from spokeshave.verify.sweep.matrix import Matrix
from spokeshave.verify.sweep.phrases import LEFT, PRESSED, STANDS, WAITS
from spokeshave.verify.sweep.work import sweep
from tests.core.test_sweep import slide

GO = "at 100 ms: press GoButton\nrun for 8 s\nexpect no alarms\n"


def with_cycle(text: str, **more) -> Project:
    return slide(scenarios=(Scenario("Cycle", text),), **more)


def verdicts(matrix: Matrix) -> dict[tuple[str, str], str]:
    return {key: cell.verdict.value for key, cell in matrix.cells.items()}


def test_what_the_reference_leaves_undone_itself_is_said_first_and_the_rest_is_swept():
    sound = sweep(slide())
    assert sound.said_first == ()
    for text, said in (
        ("expect finally Slide", "Cycle does not pass: expect finally Slide"),
        ("expect never Slide", "breaks its own rule without any fault: never Slide. The rule is left out"),
    ):
        matrix = sweep(with_cycle(f"{GO}{text}"))
        assert any(said in s for s in matrix.said_first), matrix.said_first
        assert verdicts(matrix) == verdicts(sweep(with_cycle(GO))), "cells are judged as without it"
    short = sweep(with_cycle("at 100 ms: press GoButton\nrun for 1500 ms\nexpect no alarms\n"))
    assert "does not end in the steps in which it begins: no cycle is played behind a fault" in short.said_first[0]
    assert short.whole
    early = sweep(with_cycle(GO, out="Away.T >= T#300ms"))
    assert any(s == "Main.Away is left while Carriage is on its way" for s in early.said_first), early.said_first


def test_what_differs_behind_a_cycle_without_any_fault_is_no_cell_s_fault():
    """A table that has gone on by a station, a counter that is kept, a heater that follows a temperature."""
    sound = slide()
    table = Device("Table", "turntable", (("index", "Fan"), ("in_position", "There")), (("stations", 5.0),))
    more = (
        Signal("There", SignalClass.INPUT),
        Signal("Heater", SignalClass.OUTPUT),
        Signal("Warm", SignalClass.INPUT, Type.REAL),
    )
    bath = Device("Bath", "thermal", (("heater", "Heater"), ("temperature", "Warm")))
    project = replace(
        sound, signals=(*sound.signals, *more), closing="Heater := Warm < 40.0;",
        devices=(*(d for d in sound.devices if d.name != "Blower"), table, bath),
    )  # fmt: skip
    matrix = sweep(project)
    assert matrix.said_first == ()
    own = [c for c in matrix.open() if not c.fault.startswith(("Table", "Bath"))]
    before = {(c.fault, c.step) for c in sweep(sound).open()}
    assert {(c.fault, c.step) for c in own} <= before, own


def test_what_comes_to_harm_without_any_fault_is_said_first_and_is_no_hazard_of_a_cell():
    sound = slide()
    tub = Device("Tub", "vessel", (("inlet", "Fan"),), (("volume_l", 1.0), ("inlet_l_s", 50.0)))
    filled = replace(sound, devices=(*(d for d in sound.devices if d.name != "Blower"), tub))
    matrix = sweep(filled)
    assert matrix.said_first[0] == "Tub is overfilled without any fault. No cell is called a hazard for that alone"
    assert not [c for c in matrix.in_order() if "Tub is overfilled" in c.because], "it is told once"
    own = {(c.fault, c.step): c.verdict for c in matrix.in_order() if not c.fault.startswith("Tub")}
    before = {(c.fault, c.step): c.verdict for c in sweep(sound).in_order()}
    assert own == {key: before[key] for key in own}, "and every other cell is judged as without the tub"


def test_a_cycle_that_only_is_slower_goes_on():
    slow = sweep(slide(longest="", devices=(replace(slide().devices[0], parameters=(("extend_s", 2.0), ("retract_s", 2.0))),
                                            *slide().devices[1:])))  # fmt: skip
    cells = [c for c in slow.cells.values() if c.fault == "Carriage slow"]
    assert cells and all(c.verdict.value == "harmless" for c in cells), cells


def test_every_mend_that_is_offered_makes_its_cells_told():
    project = slide(longest="", back="SlideBack", trips=())
    gone: list[str] = []
    for _ in range(8):
        matrix = sweep(project)
        found = causes(project, matrix)
        mend = next(((told, cells) for told, cells in found if told.mend is not None), None)
        if mend is None:
            break
        told, cells = mend
        assert told.mend is not None and told.title and told.text not in gone
        gone.append(told.text)
        project = told.mend(project)
        after = sweep(project)
        still = {(c.fault, c.step) for what, cs in causes(project, after) if what.text == told.text for c in cs}
        assert not still & {(c.fault, c.step) for c in cells}, told.text
    else:
        pytest.fail(f"no end of mends: {gone}")
    assert any("trip on NOT Halt" in g for g in gone) and any("longest time of Main.Away" in g for g in gone)
    assert any("with AND NOT SlideOut" in g for g in gone), gone
    first = sweep(slide(longest="", back="SlideBack", trips=()))
    assert matrix.coverage > first.coverage and len(matrix.open()) < len(first.open()) / 2


def test_a_step_that_looks_at_nothing_is_told_what_to_await():
    project = slide(out="Away.T >= T#1500ms")
    told = next(t for t, _ in causes(project, sweep(project)) if t.title.startswith("Await SlideOut"))
    assert told.mend is not None and "without a look at Carriage" in told.text
    mended = told.mend(project)
    assert mended.sequences[0].transitions[1].condition == "(Away.T >= T#1500ms) AND SlideOut"
    assert told.text not in [t.text for t, _ in causes(mended, sweep(mended))]


def test_a_cycle_is_chosen_that_comes_back():
    scenarios = (
        Scenario("Out only", "at 100 ms: press GoButton\nrun for 1500 ms\nexpect order Main: Rest, Away"),
        Scenario("Nothing", "run for 1 s\nexpect never Slide"),
        Scenario("There and back", GO),
    )
    assert usual_cycle(slide(scenarios=scenarios)).name == "There and back"
    promised = Scenario("Promised", f"{GO}expect order Main: Rest, Away, Inward, Rest")
    short = Scenario("Short", f"{GO}expect order Main: Rest, Away, Rest")
    assert usual_cycle(slide(scenarios=(*scenarios, short, promised))).name == "Promised", "it goes through more"
    assert usual_cycle(slide(scenarios=scenarios[:1])).name == "Out only" and usual_cycle(slide(scenarios=())) is None


def test_phrases_are_read_as_they_were_written():
    for phrase, names in (
        (LEFT, {"step": "Main.Up", "device": "Arm"}),
        (WAITS, {"step": "Main.Up", "terms": "ArmUp and NOT Held"}),
        (PRESSED, {"output": "Slide", "ms": "1200", "stop": "Halt"}),
        (STANDS, {"steps": "Main.Up and Main.Side"}),
    ):
        text = phrase.say(**names)
        for told in (
            text,
            f"{text}, and no alarm tells of it",
            f"trip Halted; {text}",
            f"the cycle behind it is not clean: {text}",
        ):
            assert phrase.read(told) == names, told
    assert LEFT.read("the cycle ends as it should") is None
