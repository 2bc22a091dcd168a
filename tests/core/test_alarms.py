"""Alarms: of their own and the words of others, in runs, scenarios, lists, edits and the sweep."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.engine.link import LinkError
from spokeshave.engine.phases import StimulusError
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats import spoke
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.language.rename import rename_device, rename_sequence, rename_signal, rename_step
from spokeshave.language.unit_deviations import deviations
from spokeshave.language.units import add_copy
from spokeshave.model.alarm_edits import change_alarm, new_alarm, remove_alarm
from spokeshave.model.alarm_sources import sources
from spokeshave.model.edits import EditError
from spokeshave.model.project import AlarmRule, Device, Project, Scenario, Signal, SignalClass, Trip, Type, Unit
from spokeshave.model.sequence_edits import delete_sequence
from spokeshave.verify.alarm_list import alarm_list, as_csv
from spokeshave.verify.cause_effect_edits import change_trip
from spokeshave.verify.check.remedies import remedy
from spokeshave.verify.check.run import findings
from spokeshave.verify.keep import kept_rows
from spokeshave.verify.scenarios import run_scenario
from tests.core.test_semantics import gate, main


def told(session: Session, *kinds: str) -> list[tuple[int, str, str]]:
    return [(e.k, e.kind, e.text) for e in session.trace.events if e.kind in (kinds or ("alarm", "alarm cleared"))]


def run(project: Project, scans: int, *rows: tuple[int, str, object]) -> Session:
    session = Session(project, [Stimulus(t, "set", n, v) for t, n, v in rows])
    session.run_scans(scans)
    return session


def with_alarms(*rules: AlarmRule, **changes: object) -> Project:
    return replace(gate(), alarms=rules, **changes)


DRIFT = AlarmRule("Drift", "Go AND Shut", "{Count} times, open {Main.Open.X}, waits {Wait}", delay="Wait")


def test_an_alarm_comes_when_its_condition_has_lasted_with_the_values_of_that_scan():
    session = run(with_alarms(DRIFT), 20, (20, "Go", True), (50, "Shut", True), (60, "Count", 7), (130, "Shut", False))
    assert told(session) == [
        (8, "alarm", "7 times, open FALSE, waits T#30ms"),
        (13, "alarm cleared", "7 times, open FALSE, waits T#30ms"),
    ]


@settings(max_examples=120, deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 60), st.sampled_from(("Go", "Shut")), st.booleans()), max_size=12),
    st.integers(0, 9),
)
def test_it_stands_just_as_long_as_its_condition_has_been_true_for_its_delay(rows, delay):
    alarm = AlarmRule("Both", "Go AND NOT Shut", delay=f"T#{10 * delay}ms")
    session = run(with_alarms(alarm), 70, *((10 * k, n, v) for k, n, v in sorted(rows, key=lambda r: r[0])))
    lasted, stands, expected = -1, False, []
    for k in range(70):
        lasted = lasted + 1 if session.trace.at("Go", k) and not session.trace.at("Shut", k) else -1
        if (lasted >= delay) != stands:
            stands = not stands
            expected.append((k, "alarm" if stands else "alarm cleared", "Both"))
    assert told(session) == expected


def test_a_window_a_trip_and_a_hold_say_what_somebody_wrote_and_are_expected_by_what_they_are():
    project = main(gate(), hold_when="Shut AND Go")
    steps = tuple(replace(s, longest="T#40ms") if s.name == "Open" else s for s in project.sequences[0].steps)
    project = main(project, steps=steps)
    project = replace(
        project,
        trips=(Trip("Guard", 1, "Stop"),),
        alarms=(
            AlarmRule("", text="the gate stands open, {Count} passed", on="late Main.Open"),
            AlarmRule("", text="somebody is in the way", cls="fault", on="trip Guard"),
            AlarmRule("", text="both buttons", on="Hold main"),
        ),
        scenarios=(
            Scenario(
                "Late",
                "at 20 ms: set Go to TRUE\nat 40 ms: set Go to FALSE\nat 90 ms: set Stop to TRUE\nrun for 200 ms\n"
                'expect alarm "Main.Open is late"\nexpect alarm "stands open"\nexpect alarm "trip Guard"\nexpect no alarm "both buttons"',
            ),
        ),
    )
    session = run(project, 20, (20, "Go", True), (120, "Shut", True), (150, "Shut", False))
    assert told(session) == [
        (6, "alarm", "the gate stands open, 0 passed"),
        (12, "alarm", "both buttons"),
        (15, "alarm cleared", "both buttons"),
    ]
    assert run_scenario(project, project.scenarios[0]).worst is None
    assert [row.scenarios for row in alarm_list(project)] == [("Late",), (), ("Late",)]


def test_a_hold_with_a_class_and_no_text_is_told_by_what_it_is():
    project = replace(main(gate(), hold_when="Shut"), alarms=(AlarmRule("", cls="fault", on="hold Main"),))
    assert told(run(project, 5, (20, "Shut", True))) == [(2, "alarm", "hold Main")]
    assert told(run(main(gate(), hold_when="Shut"), 5, (20, "Shut", True))) == []


def test_what_is_shelved_stands_without_being_told_until_it_is_taken_back():
    project = with_alarms(AlarmRule("Hot", "Go"))
    session = Session(project)
    session.do("shelve", "alarm:Hot", True)
    session.do("set", "Go", True)
    session.run_scans(3)
    assert told(session, "alarm") == [] and session.situation.alarms["alarm:Hot"].cleared < 0
    session.do("set", "Go", False)
    session.do("shelve", "alarm:Hot", False)
    session.run_scans(2)
    session.do("set", "Go", True)
    session.run_scans(2)
    assert told(session, "alarm") == [(5, "alarm", "Hot")]
    with pytest.raises(StimulusError, match="no alarm Cold"):
        session.do("shelve", "Cold", True)
    assert 'expect alarm "Hot"' in kept_rows(session)


def test_an_edit_of_the_running_file_ends_alarms_that_are_gone():
    session = run(with_alarms(AlarmRule("Hot", "Go"), AlarmRule("Wet", "Go")), 5, (10, "Go", True))
    session.adopt(with_alarms(AlarmRule("Wet", "Go")))
    assert list(session.situation.alarms) == ["alarm:Wet"]


@pytest.mark.parametrize(
    ("rule", "message"),
    [
        (AlarmRule("Hot", "Gone"), "Gone"),
        (AlarmRule("Hot", "Count"), "INT"),
        (AlarmRule("Hot", "Go", "at {Nowhere:1}"), "Nowhere"),
        (AlarmRule("Hot", "Go", delay="Count"), "INT"),
        (AlarmRule("not a name", "Go"), "not a name"),
        (AlarmRule("", text="{Gone}", on="late Main.Open"), "Gone"),
    ],
)
def test_what_is_wrong_in_an_alarm_is_told_at_it(rule, message):
    with pytest.raises(LinkError) as error:
        Session(with_alarms(rule))
    assert any(d.place.kind == "alarm" and message in d.message for d in error.value.found)


def test_numbers_in_a_text_have_the_digits_that_it_asks_for():
    signals = (*gate().signals, Signal("Temp", SignalClass.INPUT, Type.REAL))
    project = with_alarms(AlarmRule("Hot", "Temp > 80.0", "{Temp:1}, {Temp}, {odd"), signals=signals)
    session = run(project, 4, (20, "Temp", 81.25512))
    assert told(session) == [(2, "alarm", "81.3, 81.26, {odd")]


def test_names_in_alarms_follow_what_they_mean():
    project = with_alarms(
        AlarmRule("Drift", "Go AND Main.Open.X", "open {Main.Open.T} with {Count}", delay="Wait", device="Slide"),
        AlarmRule("", text="late", on="late Main.Open"),
        AlarmRule("", text="tripped", on="trip Guard"),
        trips=(Trip("Guard", 1, "Stop"),),
        devices=(Device("Slide", "actuator", (("extend", "Drive"),)),),
    )
    project = rename_signal(rename_signal(project, "Go", "Start"), "Count", "Number")
    project = rename_device(
        rename_sequence(rename_step(project, "Main", "Open", "Wide"), "Main", "Gate"), "Slide", "Leaf"
    )
    project = change_trip(project, "Guard", name="Fence")
    assert project.alarms == (
        AlarmRule("Drift", "Start AND Gate.Wide.X", "open {Gate.Wide.T} with {Number}", delay="Wait", device="Leaf"),
        AlarmRule("", text="late", on="late Gate.Wide"),
        AlarmRule("", text="tripped", on="trip Fence"),
    )
    assert [a.on for a in delete_sequence(project, "Gate").alarms] == ["", "trip Fence"]


def test_alarms_are_the_same_behind_each_format_that_keeps_all():
    project = with_alarms(DRIFT, AlarmRule("", text="a {Count}\nb", cls="message", on="late Main.Open"))
    assert spoke.loads(spoke.dumps(project)) == project
    assert parse_iec(write_iec(project)).alarms == project.alarms
    with pytest.raises(spoke.FormatError, match="urgent"):
        spoke.loads(spoke.dumps(project).replace('"message"', '"urgent"'))


def test_edits_make_change_and_take_away():
    project = new_alarm(new_alarm(gate(), "Hot"), "Hot")
    assert [a.name for a in project.alarms] == ["Hot", "Hot2"]
    project = replace(project, scenarios=(Scenario("S", 'run for 1 s\nexpect alarm "Hot"\nexpect no alarm "Hot2"'),))
    hot, hot2 = sources(project)
    project = change_alarm(project, hot, name="Warm", condition="Go", cls="fault")
    assert project.alarms[0] == AlarmRule("Warm", "Go", cls="fault")
    assert project.scenarios[0].text == 'run for 1 s\nexpect alarm "Warm"\nexpect no alarm "Hot2"'
    for wrong in ({"cls": "urgent"}, {"name": "warm"}, {"name": " "}, {"name": "too hot"}):
        with pytest.raises(EditError):
            change_alarm(project, hot2, **wrong)
    assert [a.name for a in remove_alarm(project, hot2).alarms] == ["Warm"]
    late = main(gate(), steps=tuple(replace(s, longest="T#1s") for s in gate().sequences[0].steps))
    source = next(s for s in sources(late) if s.on == "late Main.Open")
    spoken = change_alarm(late, source, text="look at the gate")
    assert [(a.on, a.text) for a in spoken.alarms] == [("late Main.Open", "look at the gate")]
    source = next(s for s in sources(spoken) if s.on == "late Main.Open")
    assert change_alarm(spoken, source, text="").alarms == ()
    assert change_alarm(late, next(s for s in sources(late) if s.on), text=" ") is late


def test_the_check_tells_words_for_nothing_devices_that_are_none_and_texts_that_are_alike():
    wrong = with_alarms(
        AlarmRule("A1", "Go", "look at the gate", device="Gone"),
        AlarmRule("A2", "Shut", "Look at  the gate"),
        AlarmRule("", text="x", on="late Main.Open"),
    )
    found = {d.code: d for d in findings(wrong)}
    assert {"alarm-no-device", "alarms-alike", "alarm-of-nothing"} <= set(found)
    mend = remedy(wrong, found["alarm-of-nothing"])
    assert mend is not None and [a.name for a in mend[1](wrong).alarms] == ["A1", "A2"]
    right = with_alarms(AlarmRule("A1", "Go", "look at the gate"), AlarmRule("A2", "Shut", "look at the drive"))
    assert not {d.code for d in findings(right)} & {"alarm-no-device", "alarms-alike", "alarm-of-nothing"}


def test_a_copy_of_a_unit_has_the_alarms_of_its_template():
    signals = (
        Signal("L_Full", SignalClass.INPUT),
        Signal("L_Fill", SignalClass.OUTPUT),
        Signal("All", SignalClass.INTERNAL),
    )
    project = Project(
        signals=signals,
        alarms=(AlarmRule("L_High", "L_Full AND L_Fill", "{L_Full}"), AlarmRule("Plant", "All AND L_Full")),
        units=(Unit("L", "L_", ("L_Full", "L_Fill")),),
    )
    project = add_copy(project, "L", "R_")
    assert [a.name for a in project.alarms] == ["L_High", "Plant", "R_High"]
    assert project.alarms[2] == AlarmRule("R_High", "R_Full AND R_Fill", "{R_Full}")
    other = replace(project, alarms=(*project.alarms[:2], replace(project.alarms[2], condition="R_Full")))
    assert [d.text for d in deviations(other, other.units[0], "R_")] == ["alarm R_High is missing or another"]


def test_the_command_lists_them_with_the_scenario_that_shows_each(tmp_path):
    project = with_alarms(DRIFT, scenarios=(Scenario("Both", 'run for 1 s\nexpect alarm "Drift"'),))
    spoke.write(project, tmp_path / "gate.spoke")
    result = CliRunner().invoke(whole_app(), ["alarms", str(tmp_path / "gate.spoke"), "--csv", str(tmp_path / "a.csv")])
    assert result.exit_code == 0 and "warning  Drift: Go AND Shut, for Wait" in result.output
    assert "shown by Both" in result.output
    assert (tmp_path / "a.csv").read_text() == as_csv(alarm_list(project)).replace("\r\n", "\n")
    data = json.loads(CliRunner().invoke(whole_app(), ["alarms", str(tmp_path / "gate.spoke"), "--json"]).output)
    assert data["alarms"][0]["shown by"] == ["Both"]
