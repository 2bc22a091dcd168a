"""What was told wrongly once: values outside their types, numbers that look alike, items that never leave an eye."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace
from datetime import UTC, datetime
from xml.etree import ElementTree

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st
from openpyxl import load_workbook
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats import spoke
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.formats.signal_table import read_rows, table_rows, write_table
from spokeshave.formats.spoke_schema import VERSION
from spokeshave.formats.stimuli_csv import parse_stimuli
from spokeshave.language.literals import read_value, time_ms, value_text
from spokeshave.language.parse import parse_expression
from spokeshave.language.syntax import LONGEST_NAME, TextError
from spokeshave.model.project import (
    Accepted,
    Action,
    Body,
    Device,
    Instance,
    Project,
    Qualifier,
    Scenario,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)
from spokeshave.verify.accepted import accept, compare, number_text
from spokeshave.verify.check import findings
from spokeshave.verify.junit import junit
from spokeshave.verify.reach.answers import study
from spokeshave.verify.reach.asked import Says
from spokeshave.verify.scenarios import run_scenario
from spokeshave.verify.sweep.work import sweep

IN, OUT, VAR, SET = SignalClass.INPUT, SignalClass.OUTPUT, SignalClass.INTERNAL, SignalClass.SETTING


def chart(*ways: tuple[str, str, str], **actions: tuple[Action, ...]) -> Sequence:
    names = list(dict.fromkeys(n for a, b, _ in ways for n in (a, b)))
    steps = tuple(Step(n, 10 * i + 10, actions.get(n, ())) for i, n in enumerate(names))
    return Sequence("Main", names[0], steps, tuple(Transition((a,), (b,), c) for a, b, c in ways))


def test_large_step_numbers_of_two_sequences_never_meet():
    """Both blocks count, in the order of the sequences: the second one's step number is beyond 24 bits."""
    numbered = []
    for name, number in (("One", 2**24 + 5), ("Two", 5), ("Three", -7)):
        q = chart(
            ("A", "B", "TRUE"),
            ("B", "A", "FALSE"),
            B=(Action(Qualifier.N, f"{name}Out"), Action(Qualifier.S, f"{name}Kept")),
        )
        steps = (replace(q.steps[0], number=number - 1), replace(q.steps[1], number=number))
        numbered.append(replace(q, name=name, steps=steps))
    signals = tuple(Signal(f"{n}{what}", OUT) for n in ("One", "Two", "Three") for what in ("Out", "Kept"))
    session = Session(Project(signals=signals, sequences=tuple(numbered)))
    session.run_for(100)
    assert all(session.trace.at(s.name, 5) is True for s in signals)


@pytest.mark.parametrize(
    ("kind", "value", "why"),
    [
        (Type.INT, 99999, "out of range"), (Type.INT, 1.5, "is not an INT value"), (Type.DINT, True, "is not a DINT value"),
        (Type.BOOL, 1, "is not a BOOL value"), (Type.REAL, float("inf"), "not a finite"), (Type.REAL, float("nan"), "not a finite"),
        (Type.TIME, 2**63, "out of range"), (Type.TIME, 0.5, "is not a TIME value"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("field", ["initial", "home"])
def test_a_value_outside_its_type_is_an_error(kind, value, why, field):
    (found,) = link_problems(Project(signals=(Signal("X", SET, kind, **{field: value}),)))
    assert found.code == "initial" and why in found.message and field in found.message


@pytest.mark.parametrize("text", ["1.0e999", "REAL#nan", "REAL#inf", "-1.0e999"])
def test_no_literal_is_infinite_or_nan(text):
    with pytest.raises(TextError, match=r"not a finite number|not a REAL"):
        parse_expression(text)
    with pytest.raises(ValueError, match="not a"):
        read_value(text.partition("#")[2] or text, Type.REAL)


def test_infinity_never_enters_by_a_file_or_a_hand():
    with pytest.raises(FormatError, match="1e999 is not a finite number"):
        spoke.loads(
            '{"format": "spokeshave machine file", "version": 3, "signals": [{"name": "X", "cls": "setting", "initial": 1e999}]}'
        )
    session = Session(Project(signals=(Signal("X", SET, Type.REAL),)))
    with pytest.raises(ValueError, match="a REAL is a finite number"):
        session.do("set", "X", float("nan"))
        session.scan()


def test_trips_have_names_and_each_its_own():
    trips = (Trip("Stop", 1, "FALSE"), Trip("stop", 2, "FALSE"), Trip("Too hot", 3, "FALSE"))
    found = link_problems(Project(sequences=(chart(("A", "B", "TRUE"), ("B", "A", "TRUE")),), trips=trips))
    assert [(d.code, d.place.item) for d in found] == [("name-twice", "stop"), ("name", "Too hot")]


def test_the_study_counts_as_the_engine_does():
    """32767 + 1 is -32768: a step that only the wrapped number reaches is reached."""
    q = chart(("A", "B", "Go"), ("B", "C", "N < 0"), ("C", "A", "Go"), A=(Action(Qualifier.P1, "Up"),))
    q = replace(q, bodies=(Body("Up", "N := N + 1;"),))
    project = Project(signals=(Signal("Go", IN), Signal("N", VAR, Type.INT, initial=32767)), sequences=(q,))
    session = Session(project, [Stimulus(30, "set", "Go", True)])
    session.run_for(100)
    assert session.trace.windows("Main.C.X"), "the engine gets there"
    (reached,) = [a for a in study(project).answers if a.kind == "reached"]
    assert reached.says is Says.GOOD


@given(st.integers(-(2**31), 2**31 - 1), st.floats(allow_nan=False, allow_infinity=False))
def test_numbers_of_accepted_runs_read_back(whole, real):
    assert float(number_text(float(whole))) == whole and float(number_text(real)) == real


def test_runs_that_differ_in_the_seventh_digit_differ():
    q = chart(("A", "B", "A.T >= T#100ms"), ("B", "A", "FALSE"), B=(Action(Qualifier.P1, "Count"),))
    signals = (Signal("N", VAR, Type.DINT), Signal("Each", SET, Type.DINT, initial=1000001))
    project = Project(signals=signals, sequences=(replace(q, bodies=(Body("Count", "N := Each;"),)),),
                      scenarios=(Scenario("Counts", "run for 1 s\nexpect finally N > 0"),))  # fmt: skip
    kept = accept(project.scenarios[0], run_scenario(project, project.scenarios[0]).runs[0], within=0.0)
    other = replace(project, signals=(signals[0], replace(signals[1], initial=1000002)))
    found = compare(kept, run_scenario(other, other.scenarios[0]).runs[0])
    assert [(d.lane, d.text) for d in found] == [("N", "1000001 is missing"), ("N", "1000002 besides")]


def test_whatever_fails_verify_is_a_test_case(tmp_path):
    q = chart(("A", "B", "A.T >= T#100ms"), ("B", "A", "FALSE"))
    scenario = Scenario("Goes", "run for 1 s\nexpect finally Main.B.X")
    wrong = Accepted("Goes", length_ms=1000, lanes=(("Main.B.X", "0:0 700:1"),))
    project = Project("Odd", sequences=(q,), scenarios=(scenario,), accepted=(wrong,))
    file, out = tmp_path / "odd.spoke", tmp_path / "odd.xml"
    spoke.write(project, file)
    done = CliRunner().invoke(whole_app(), ["verify", str(file), "--junit", str(out)])
    suite = ElementTree.parse(out).getroot()
    assert done.exit_code == 1
    assert (suite.get("tests"), suite.get("failures"), suite.get("errors"), suite.get("skipped")) == (
        "3",
        "1",
        "0",
        "0",
    )
    (failure,) = suite.findall("testcase[@classname='accepted']/failure")
    assert failure.get("type") == "differs" and "was entered besides" in failure.text
    at = datetime(2031, 1, 2, 3, 4, 5, tzinfo=UTC)
    suite = ElementTree.fromstring(junit("Odd", [run_scenario(project, scenario)], [], (), at))
    assert (suite.get("timestamp"), suite.get("time")) == ("2031-01-02T03:04:05", "1.000")
    assert all(case.get("time") is not None for case in suite)


HEAD = {"format": "spokeshave machine file", "version": VERSION}
GO = {"name": "Go", "cls": "input"}
BROKEN = [
    ({"signals": [GO | {"intial": True}]}, r"signals\[0\] \(Go\).intial: there is no such field; did you mean initial"),
    ({"signals": [GO | {"contact": "maybe"}]}, r"signals\[0\] \(Go\).contact: 'maybe' is not possible"),
    ({"signals": [GO | {"initial": "yes"}]}, r"signals\[0\] \(Go\).initial: this is no value"),
    ({"signals": [GO | {"retain": "yes"}]}, "retain"), ({"signals": [GO | {"type": "BOL"}]}, "type"),
    ({"signals": [{"name": "Go"}]}, "cls"), ({"signals": {"Go": GO}}, "signals"), ({"signals": [GO | {"name": 7}]}, "name"),
    ({"signal": []}, "did you mean signals"), ({"period_ms": 0}, "1 to 1000"), ({"period_ms": "10"}, "period_ms"),
    ({"period_ms": 2.5}, "period_ms"), ({"opposed": [{"first": "A", "second": "B", "dead_ms": -1}]}, "dead_ms"),
    ({"trips": [{"name": "A", "rank": 0, "condition": "Go"}]}, "rank"),
    ({"trips": [{"name": "A", "rank": 1, "condition": "Go", "steps": "stop"}]}, "steps"),
    ({"trips": [{"name": "A", "rank": 1, "condition": "Go", "scope": "all"}]}, "scope"),
    ({"sequences": [{"name": "A", "initial": "B", "steps": [{"name": "B"}]}]}, "number"),
    ({"sequences": [{"name": "A", "initial": "B", "steps": [{"name": "B", "number": 1, "actions": [{"qualifier": "Q", "target": "X"}]}]}]},
     "qualifier"),
    ({"sequences": [{"name": "A", "initial": "B", "steps": [], "hold_outputs": "leave"}]}, "hold_outputs"),
    ({"devices": [{"name": "M", "kind": "motor", "wires": [["run"]]}]}, "wires"),
    ({"devices": [{"name": "M", "kind": "motor", "parameters": [["run_up_s", "2"]]}]}, "parameters"),
    ({"requirements": [{"ident": "R1", "text": "x", "kind": "wish"}]}, "kind"), ({"reset": None}, "reset"),
    ({"future": {"field": 1}}, "there is no such field"),
]  # fmt: skip


fits = jsonschema.Draft202012Validator(spoke.schema()).validate


@pytest.mark.parametrize(("wrong", "said"), BROKEN)
def test_reader_and_schema_refuse_the_same_files(wrong, said):
    with pytest.raises(FormatError, match=said):
        spoke.loads(json.dumps(HEAD | wrong))
    with pytest.raises(jsonschema.ValidationError):
        fits(HEAD | wrong)


def test_the_schema_takes_what_the_program_writes(roastery):
    jsonschema.Draft202012Validator.check_schema(spoke.schema())
    fits(json.loads(spoke.dumps(roastery)))
    for missing in ("format", "version"):
        with pytest.raises(jsonschema.ValidationError):
            fits({k: v for k, v in HEAD.items() if k != missing})


@given(st.floats(allow_nan=False, allow_infinity=False))
def test_every_real_value_is_written_as_iec_reads_it(value):
    text = value_text(value, Type.REAL)
    tree = parse_expression(text)
    assert read_value(text, Type.REAL) == value
    assert str(tree).count("REAL") and parse_expression(text) == tree
    project = Project(
        "Main",
        signals=(Signal("X", SET, Type.REAL, initial=value),),
        sequences=(chart(("A", "B", "X > 1.0"), ("B", "A", "X < 1.0")),),
    )
    assert parse_iec(write_iec(project)) == project


ODD = st.text(st.sampled_from("=+-@'\"; ,aä5\u2026"), min_size=1, max_size=6).map(str.strip).filter(bool)


@given(ODD)
def test_cells_that_look_like_formulas_are_texts_and_come_back(tmp_path_factory, text):
    folder = tmp_path_factory.mktemp("lists")
    signals = (Signal("Go", IN, comment=text), Signal("N", SET, Type.INT, initial=-5, unit=text))
    for name in ("list.csv", "list.xlsx"):
        write_table(signals, folder / name)
        assert read_rows(folder / name) == [[c.strip() for c in row] for row in table_rows(signals)]
    data = (folder / "list.csv").read_bytes()
    assert data.startswith(b"\xef\xbb\xbf")
    cells = [c for row in csv.reader(io.StringIO(data.decode("utf-8-sig"))) for c in row]
    assert not [c for c in cells if c[:1] in tuple("=+@") or (c[:1] == "-" and c != "-5")]
    sheet = load_workbook(folder / "list.xlsx").active
    assert {c.data_type for row in sheet.iter_rows() for c in row if c.value is not None} == {"s"}


@pytest.mark.parametrize("text", ["T#1s2m", "T#1s1s", "5ms3s", "T#1h2d"])
def test_units_of_a_time_stand_in_their_order(text):
    with pytest.raises(ValueError, match="wrong order"):
        time_ms(text)


def test_a_run_is_not_shorter_than_nothing_and_stimuli_hold_no_zero_bytes(tmp_path):
    file = tmp_path / "a.spoke"
    spoke.write(Project(sequences=(chart(("A", "B", "TRUE"), ("B", "A", "TRUE")),)), file)
    told = CliRunner().invoke(whole_app(), ["run", str(file), "--for", "-5s"])
    assert told.exit_code == 2 and "cannot be shorter than nothing" in told.stderr
    with pytest.raises(FormatError, match="zero byte") as found:
        parse_stimuli("time_ms,signal,value\n0,G\0o,1\n", Project(signals=(Signal("Go", IN),)))
    assert found.value.line == 2


def taking(run: bool) -> Project:
    """A belt with an item at its end, which an eye sees until it is taken; at each taking the chart goes on."""
    wires = (("run", "Run"), ("take", "Take"), ("eye4", "AtEnd"), ("off", "Gone"))
    numbers = {
        "length_m": 0.4,
        "item_m": 0.1,
        "period_s": 1.2 if run else 0.0,
        "waits_at_end": 1,
        "eye4_m": 0.4,
        "speed_m_s": 0.5,
    }
    belt = Device("Line", "belt", wires, tuple(numbers.items()))
    q = chart(("Wait", "Taken", "AtEnd AND Wait.T >= T#50ms"), ("Taken", "Wait", "NOT AtEnd"), Taken=(Action(Qualifier.N, "Take"),),
              Wait=(Action(Qualifier.N, "Run"),) if not run else ())  # fmt: skip
    signals = (Signal("Run", OUT), Signal("Take", OUT), Signal("AtEnd", IN), Signal("Gone", IN, Type.DINT))
    return Project(signals=signals, sequences=(q,), devices=(belt,), closing="Run := TRUE;" if run else "")


@pytest.mark.parametrize("every_scan", [False, True])
@pytest.mark.parametrize("run", [True, False])
def test_an_item_that_is_taken_clears_its_eye_and_is_counted(run, every_scan):
    hands = [] if run else [Stimulus(10, "hand", "Line", 1), Stimulus(60, "hand", "Line", 0)]
    session = Session(taking(run), hands, every_scan)
    session.run_for(6000)
    seen = session.trace.windows("AtEnd")
    assert len(seen) == (5 if run else 1)
    assert all(end - begin == 1 for begin, end in seen), "it is taken in the scan it is seen, and gone in the next"
    assert session.trace.at("Gone", session.k - 1) == len(seen)


def test_what_a_belt_has_done_in_all_is_no_place():
    """One item more or less has gone off when a step is left later: that is no harm."""
    project, q = taking(True), chart(("Rest", "Wait", "RISING(Go)"), ("Wait", "Taken", "AtEnd"), ("Taken", "Rest", "NOT AtEnd"),
                                     Taken=(Action(Qualifier.N, "Take"),))  # fmt: skip
    rows = ("at 0 s: hold Line", "at 1 s: release Line", "at 1500 ms: press Button", "run for 4 s",
            "expect order Main: Rest, Wait, Taken, Rest")  # fmt: skip
    cycle = Scenario("One", "\n".join(rows))
    line = replace(
        project.devices[0],
        parameters=(*(p for p in project.devices[0].parameters if p[0] != "period_s"), ("period_s", 0.0)),
    )
    whole = replace(project, signals=(*project.signals, Signal("Go", IN)), sequences=(q,), scenarios=(cycle,),
                    devices=(line, Device("Button", "button", (("contact", "Go"),))))  # fmt: skip
    assert run_scenario(whole, cycle).outcome.value == "pass"
    pressed = [c for c in sweep(whole).in_order() if c.fault in ("Button pressed", "Line slip")]
    assert pressed and not [
        c.because for c in pressed if "Line not where it belongs" in c.because or "Line does not end" in c.because
    ]


@pytest.mark.parametrize("bad", ["N" * (LONGEST_NAME + 1), "9th", "two words", "END_IF"])
@pytest.mark.parametrize("what", ["signal", "sequence", "step", "body", "trip", "device", "instance"])
def test_every_name_of_a_machine_file_is_a_legal_one_of_at_most_a_hundred_characters(what, bad):
    step = Step(bad if what == "step" else "Rest", 10, (Action(Qualifier.N, bad if what == "body" else "Note"),))
    q = Sequence(
        bad if what == "sequence" else "Main",
        step.name,
        (step,),
        (),
        (Body(bad if what == "body" else "Note", "On := TRUE;"),),
    )
    project = Project(
        signals=(Signal("On", SignalClass.OUTPUT), *((Signal(bad, SignalClass.INPUT),) if what == "signal" else ())),
        sequences=(q,), trips=(Trip(bad, 1, "FALSE", ("Main",)),) if what == "trip" else (),
        devices=(Device(bad, "lamp"),) if what == "device" else (), instances=(Instance(bad, "TON"),) if what == "instance" else (),
    )  # fmt: skip
    found = [d for d in findings(project) if d.code == "name"]
    if what == "trip" and bad == "END_IF":
        assert not found, "no text names a trip"
    else:
        assert found and found[0].place.kind == what and len(str(found[0])) < 400
