"""Recordings of a real machine: read in the forms people have, laid beside a run, and what of the machine file is wrong found."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.recording import of_sheet, parse_dump, read_recording
from spokeshave.formats.spoke import dumps
from spokeshave.formats.tables.grid import sheet_of_text
from spokeshave.formats.trace_csv import trace_rows
from spokeshave.formats.vcd import vcd_lines
from spokeshave.model.project import Project
from spokeshave.verify.recorded import lay_beside, matched, put_in_place

TEXT = """
PROGRAM Gate
  VAR_INPUT Go, Opened : BOOL; Load : REAL; END_VAR
  VAR_OUTPUT Drive : BOOL; Count : INT; Low : DINT; END_VAR
  VAR CONSTANT Least : REAL := 2.5; END_VAR
  INITIAL_STEP Closed: END_STEP
  STEP Opening: Drive(N); END_STEP
  TRANSITION FROM Closed TO Opening := Go AND Load >= Least; END_TRANSITION
  TRANSITION FROM Opening TO Closed := Opened; END_TRANSITION
END_PROGRAM
PROGRAM After
  IF RISING(Drive) THEN Count := Count + 1; Low := Low - 100000; END_IF;
END_PROGRAM
"""
GATE = parse_iec(TEXT)
DEEDS = st.lists(
    st.tuples(st.integers(0, 300), st.sampled_from(["Go", "Opened"]), st.booleans())
    | st.tuples(st.integers(0, 300), st.just("Load"), st.sampled_from([0.0, 1.5, 2.5, 30.25])),
    max_size=25,
)


def run(project: Project, deeds: list[tuple[int, str, object]]) -> Session:
    session = Session(
        project, [Stimulus(10 * k, "set", name, value) for k, name, value in sorted(deeds, key=lambda d: d[0])]
    )
    session.run_for(4000)
    return session


def wide(session: Session, mark: str = ";", step: int = 1) -> str:
    """A row a scan, as a recorder of a machine writes it: times of a day that ends, decimal commas, words for BOOL."""
    trace = session.trace
    columns = [r for r in trace.recorded if "." not in r.name]
    out = [["Recorded at the gate"], [], ["Time", *(f"{r.name[0]}_{r.name[1:]}".lower() for r in columns)]]
    for k in range(0, session.k, step):
        ms = 86_400_000 - 1000 + 10 * k
        clock = f"{ms // 3_600_000 % 24:02}:{ms // 60_000 % 60:02}:{ms // 1000 % 60:02}.{ms % 1000:03}"
        values = [trace.at(r.name, k) for r in columns]
        out.append(
            [clock, *(("ON" if v else "OFF") if isinstance(v, bool) else str(v).replace(".", ",") for v in values)]
        )
    text = io.StringIO()
    csv.writer(text, delimiter=mark).writerows(out)
    return text.getvalue()


@given(DEEDS)
def test_a_run_that_was_recorded_in_any_form_is_done_again_without_a_difference(deeds):
    session = run(GATE, deeds)
    forms = {
        "changes": of_sheet(sheet_of_text("\n".join(trace_rows(session.trace)))),
        "samples": of_sheet(sheet_of_text(wide(session))),
        "dump": parse_dump("\n".join(vcd_lines(session.trace))),
    }
    for form, found in forms.items():
        names = matched(GATE, found.lanes)
        lanes = put_in_place(found.lanes, names)
        outputs = {"Drive", "Count", "Low"}
        assert outputs | {"Go", "Opened", "Load"} <= set(names.values()), form
        for name in outputs:
            assert [v for _, v in lanes[name]] == [float(v) for _, v in changes(session, name)], (form, name)
            assert [t for t, _ in lanes[name]] == [t for t, _ in changes(session, name)], (form, name)
        beside = lay_beside(GATE, lanes, found.end_ms, within_ms=0, within=0.0)
        assert beside.differences == () and outputs <= {n for n, _ in beside.recorded.lanes}, form


def changes(session: Session, name: str) -> list[tuple[int, object]]:
    out: list[tuple[int, object]] = []
    for k in range(session.k):
        value = session.trace.at(name, k)
        if not out or out[-1][1] != value:
            out.append((10 * k, value))
    return out


def test_what_the_machine_file_does_otherwise_is_told_with_its_time_also_later_and_by_other_names(tmp_path):
    deeds = [
        (20, "Load", 3.0),
        (50, "Go", True),
        (60, "Go", False),
        (150, "Opened", True),
        (160, "Opened", False),
        (200, "Go", True),
    ]
    table, dump, file, wrong = (tmp_path / n for n in ("r.csv", "r.vcd", "gate.spoke", "wrong.spoke"))
    session = run(GATE, deeds)
    table.write_text(wide(session).replace("d_rive", "KM1"), encoding="utf-16")
    dump.write_text("\n".join(vcd_lines(session.trace)))
    file.write_text(dumps(GATE), encoding="utf-8")
    wrong.write_text(
        dumps(parse_iec(TEXT.replace("Closed := Opened", "Closed := Opening.T >= T#2s"))), encoding="utf-8"
    )

    def replay(*arguments: object) -> tuple[int, str, str]:
        found = CliRunner().invoke(whole_app(), ["replay", *map(str, arguments)])
        return found.exit_code, found.stdout, found.stderr

    assert replay(file, dump)[:2] == (0, "5 compared over 4 s: all as recorded\n")
    code, out, err = replay(file, table)
    assert code == 0 and "nothing is called so: KM1" in err
    code, out, _ = replay(file, table, "--name", "Drive=KM1", "--shift", "120ms", "--stimuli", tmp_path / "s.csv")
    assert code == 0 and out.startswith("3 compared") and "620,Go,1\n" in (tmp_path / "s.csv").read_text()
    code, out, _ = replay(wrong, dump)
    assert code == 1 and out.splitlines()[0].endswith("Gate.Opening lasted 1 s longer: 2 s, recorded 1 s")
    data = json.loads(replay(wrong, dump, "--json")[1])
    assert data["differences"][0]["what"] == "Gate.Opening" and data["names"]["signals.Drive"] == "Drive"
    for arguments, said in (
        ((file, table, "--name", "Drive=KM2"), "the recording has no KM2"),
        ((file, table, "--name", "Drive"), "write OURS=THEIRS"),
        ((file, table, "--shift", "soon"), "--shift soon"),
        ((file, file), "is no recording"),
        ((file, table, "--name", "Go=l_oad"), "Go at 200 ms: "),
    ):
        code, _, err = replay(*arguments)
        assert code == 2 and said in err


@pytest.mark.parametrize(
    ("name", "text", "message"),
    [
        ("a.csv", "Time;Go\n1;0\n0,5;1\n", ":3: the time goes backwards"),
        ("a.csv", "Time;Go\nsoon;0\n", ":2: soon is no time"),
        ("a.csv", "Time;Go\n1;maybe\n", ":2: maybe is no value of Go"),
        ("a.csv", "Time;Go\n1;nan\n", "nan is no value"),
        ("a.csv", "Time;Go\ninf;1\n", "inf is no time"),
        ("a.csv", "Time;Go;Go\n1;1;1\n", "two columns are called Go"),
        ("a.csv", "Go;Stop\n1;1\n", "no column has the times"),
        ("a.csv", "Time (s);Go\n0;1\n1e9;0\n", "days, more than 7"),
        ("a.csv", "Time;Go\n", "there are no values"),
        ("a.vcd", "$timescale 1 week $end", "a.vcd:1: 1week is no timescale"),
        ("a.vcd", "$timescale 1 ms $end\n$var wire 1 ! Go $end\n#5\n1!\n#4\n0!\n", ":5: the time goes backwards"),
        ("a.vcd", "$var wire 1 ! Go $end\n#0\n1!\nb12 !\nr1e999x !\n", ":5: r1e999x is no change"),
        ("a.vcd", "$var wire 1 ! Go", "an \\$end is missing"),
        ("a.vcd", "#" + "9" * 5000, "is no time"),
        ("a.vcd", "", "there are no values"),
        ("a.png", "", "is no recording"),
    ],
)
def test_a_recording_that_is_none_is_told_with_its_place(name, text, message, tmp_path: Path):
    path = tmp_path / name
    path.write_text(text)
    with pytest.raises(FormatError, match=message) as caught:
        read_recording(path)
    assert len(str(caught.value)) < 400 + len(str(path))


def test_a_dump_with_ranges_scopes_and_unknown_values_is_read():
    text = (
        "$date today $end $timescale 10 us $end\n$scope module top $end $scope module Gate $end\n$var reg 1 a Opening $end $upscope $end\n"
        "$var integer 16 b Count [15:0] $end $var wire 8 c Byte $end $upscope $end $enddefinitions $end\n"
        "#100 $dumpvars xa bxx b b11111111 c $end\n#150\n1a b1111111111111110 b\n#300\n0a\n#1100"
    )
    found = parse_dump(text)
    assert found.end_ms == 9
    assert found.lanes == {"top.Gate.Opening": [(0, 1.0), (2, 0.0)], "top.Count": [(0, -2.0)], "top.Byte": [(0, 255.0)]}
    assert matched(GATE, found.lanes) == {"top.Gate.Opening": "Gate.Opening.X", "top.Count": "Count"}
    assert matched(GATE, found.lanes, {"top.byte": "Low", "top.count": ""}) == {
        "top.Gate.Opening": "Gate.Opening.X",
        "top.Byte": "Low",
    }
