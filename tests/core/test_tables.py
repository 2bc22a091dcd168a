"""Tables that people have: sequences and signals from CSV and workbooks, told row by row, and written for a colleague."""

from __future__ import annotations

import io
import zipfile
from dataclasses import replace
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from openpyxl import Workbook, load_workbook
from openpyxl.styles import PatternFill
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import read_project, write_project
from spokeshave.formats.signal_table import plan_import, plan_sheet
from spokeshave.formats.spoke import loads
from spokeshave.formats.tables.book import read_tables
from spokeshave.formats.tables.grid import read_sheets, sheet_of_text
from spokeshave.formats.tables.plan import Plan
from spokeshave.formats.tables.steps import plan_sequence, taken
from spokeshave.formats.tables.write import write_tables
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Sequence, Signal, SignalClass, Type
from tests.core.projects import projects, structured
from tests.core.test_generated_code import hundreds

IN, OUT = SignalClass.INPUT, SignalClass.OUTPUT


def plan(text: str, project: Project | None = None, **more) -> Plan:
    return plan_sequence(sheet_of_text(text), project or Project(), **more)


def ways(q: Sequence) -> list[str]:
    numbers = {s.name: s.number for s in q.steps}
    return [
        f"{'+'.join(str(numbers[n]) for n in t.sources)}>{'+'.join(str(numbers[n]) for n in t.targets)} {t.condition}"
        for t in q.transitions
    ]


def test_headings_say_what_is_awaited_and_where_it_is_wired():
    """A matrix of what ends each step beside the outputs, with the addresses before their names."""
    made = plan(
        "Step No.,Step Name,Q0.0 Pump,A 0.1 - Vent,Exit if I0.0 Start,Leave when E0.1 Full,Timer (s),Next step\n"
        "1,Ready,0,0,1,-,-,2\n2,Fill,1,1,-,1,-,3\n3,Soak,0,1,-,-,30,4\n4,Drain,0,0,-,0,-,1\n"
    )
    assert {s.name: (s.cls, s.address) for s in made.signals} == {
        "Pump": (OUT, "%QX0.0"), "Vent": (OUT, "%QX0.1"), "Start": (IN, "%IX0.0"), "Full": (IN, "%IX0.1"),
    }  # fmt: skip
    assert not made.problems and not made.questions
    assert ways(made.sequence) == ["1>2 Start", "2>3 Full", "3>4 Soak.T >= T#30s", "4>1 NOT Full"]


def test_a_time_among_other_terms_is_that_of_the_step_and_a_switch_may_be_on():
    made = plan(
        "Nr;Action;Y1;Continue when\n1;rest;-;Key = ON\n2;grip;x;B2 and t>0,5s\n3;seal;x;2 sec\n4;stay;x;t#3s\n5;go;-;B2 = low & not B3"
    )
    assert ways(made.sequence) == [
        "1>2 Key", "2>3 B2 and grip.T >= T#500ms", "3>4 seal.T >= T#2s", "4>5 stay.T >= T#3s", "5>1 NOT B2 AND NOT B3",
    ]  # fmt: skip
    assert {s.name: s.type for s in made.signals if s.cls is IN} == dict.fromkeys(("Key", "B2", "B3"), Type.BOOL)


def marked(q: Sequence) -> dict[str, list[str]]:
    return {s.name: [f"{a.target} {a.qualifier} {a.time}".strip() for a in s.actions] for s in q.steps}


GERMAN = """Ablauf Solekocher;;;;;;;;
;;Ausgänge;;;Eingänge;;;
Schritt;Bezeichnung;Ventil;Heizung;Pumpe ab;Voll;Temp ok;Zeit (s);Nächster Schritt
1;Grundstellung;;;;;;;
;;;;;;;;
2;Füllen;X;;;1;;;
3;Heizen;;X;;;1;;
;;;;;0;;;1
4;Ziehen lassen;;;;;;2,5;
5;Ablassen;;;X;0;;00:00:30;Ende
"""


def test_a_german_table_with_a_title_groups_and_empty_rows():
    found = plan(GERMAN)
    q = found.sequence
    assert not found.problems and not found.questions and q.name == "AblaufSolekocher"
    assert [(s.number, s.name) for s in q.steps] == [
        (1, "Grundstellung"), (2, "Fuellen"), (3, "Heizen"), (4, "ZiehenLassen"), (5, "Ablassen"),
    ]  # fmt: skip
    assert (
        marked(q)["Fuellen"] == ["Ventil N"]
        and marked(q)["Ablassen"] == ["PumpeAb N"]
        and q.step("ZiehenLassen").comment == "Ziehen lassen"
    )
    assert ways(q) == [
        "1>2 FALSE", "2>3 Voll", "3>4 TempOk", "3>1 NOT Voll", "4>5 ZiehenLassen.T >= T#2s500ms", "5>1 NOT Voll AND Ablassen.T >= T#30s",
    ]  # fmt: skip
    assert [t.priority for t in q.transitions] == [None, None, 1, 2, None, None]
    assert {s.name: (s.cls, s.comment) for s in found.signals}["PumpeAb"] == (OUT, "Pumpe ab")
    said = [str(n) for n in found.notes]
    assert "row 4: nothing says when Grundstellung is left: FALSE, until somebody writes it" in said
    assert "row 10, Nächster Schritt: Ende: it leads to Grundstellung" in said
    assert link_problems(taken(Project(), found)) == []


MARKS = """No,Step,V1,V2,V3,V4,Count,Speed,Condition,Timeout,Next
10,Rest,,,0,,0,,Start button AND NOT Jam,,
20,Turn,x,L 2s,1,,+1,50,"Level > 2,5 OR At top",5,
,,,,,,>=3,,,,40
30,Wait,ON,S,0,R,,12.5,after 5 s,,10
40,"Clean up, slowly",nein,,ja,,,,when the vat is hot enough,T#1m,rest
"""


def test_marks_counts_values_times_and_conditions_as_people_write_them():
    found = plan(MARKS, name="Turner")
    q = found.sequence
    assert not found.problems, found.problems
    assert marked(q) == {
        "Rest": ["Clear_Count P1"], "Turn": ["V1 N", "V2 L T#2s", "V3 N", "Count_Count P1", "Set_Speed P1"],
        "Wait": ["V1 N", "V2 S", "V4 R", "Set_Speed2 P1"], "CleanUpSlowly": ["V3 N"],
    }  # fmt: skip
    assert {b.name: b.text for b in q.bodies} == {
        "Clear_Count": "Count := 0;", "Count_Count": "Count := Count + 1;", "Set_Speed": "Speed := 50.0;", "Set_Speed2": "Speed := 12.5;",
    }  # fmt: skip
    assert ways(q) == [
        "10>20 StartButton AND NOT Jam", "20>30 Level > 2.5 OR AtTop", "20>40 Count >= 3", "30>10 Wait.T >= T#5s",
        "40>10 FALSE (* when the vat is hot enough *)",
    ]  # fmt: skip
    kinds = {s.name: (s.cls.value, s.type.value) for s in found.signals}
    assert (
        kinds["Level"] == ("input", "REAL")
        and kinds["AtTop"] == ("input", "BOOL")
        and kinds["Count"] == ("internal", "INT")
    )
    assert kinds["Speed"] == ("output", "REAL") and (q.step("Turn").longest, q.step("CleanUpSlowly").longest) == (
        "T#5s",
        "T#1m",
    )
    assert [n.head for n in found.questions] == ["V3"]
    assert link_problems(taken(Project(), found)) == []


@pytest.mark.parametrize(
    ("text", "project", "wanted"),
    [
        ("Step\tTime\tV1\tV2\nA\t2\tX\t\nB\t4.5\t\tX\n", None, ["10>20 A.T >= T#2s", "20>10 B.T >= T#4s500ms"]),
        ("Step\tTime [ms]\tV1\nA\t20\tX\nB\t500\t\n", None, ["10>20 A.T >= T#20ms", "20>10 B.T >= T#500ms"]),
        ("sep=;\nNr.;Schritt;Bis;Ventil\n1;Spülen;2 s;x\n2;Ruhen;5 s;\n", None, ["1>2 Spuelen.T >= T#2s", "2>1 Ruhen.T >= T#3s"]),
        ("Step|Awaits|Go to\nA|Go|C\nB|Go|a\nC|Stop|B\n", None, ["10>30 Go", "20>10 Go", "30>20 Stop"]),
        ("Step,Condition,Next\nA,TRUE,B + C\nB,,waits with C\nC,Go,A\n", None, ["10>20+30 TRUE", "20+30>10 Go"]),
        ("No,Step,At top,Condition\n1,A,1,Go\n2,B,0,\n", Project(signals=(Signal("Top", IN, comment="At top"),)),
         ["1>2 Go AND Top", "2>1 NOT Top"]),
        ("Step no,Description,Time,Valve\n1,Fill,1,.\n2,Drain,2,\n", None, ["1>2 Fill.T >= T#1s", "2>1 Drain.T >= T#2s"]),
        ("Step,Awaits\nA,Go UND NICHT Halt\nB,A.T >= T#2s\nTotal,\n", None, ["10>20 Go AND NOT Halt", "20>10 A.T >= T#2s"]),
    ],
)  # fmt: skip
def test_flow_and_times_of_many_kinds(text, project, wanted):
    found = plan(text, project)
    assert not found.problems, found.problems
    assert ways(found.sequence) == wanted
    assert link_problems(taken(project or Project(), found)) == []


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("Step,Next\nA,B\nB,Q\n", "row 3, Next: there is no step Q"),
        ("No,Step,V\n1,A,X\n1,B,\n", "row 3, No: the number 1 stands twice"),
        ("Step,V,Next\nA,X,\nB,maybe,A\n", "row 3, V: 'maybe' is no mark"),
        ("Step,Ends at,V\nA,5,X\nB,2,X\n", "row 3, Ends at: the step ends at 2s, before the one above it"),
        ("Title\n\nStep,Time,V\nA,2,X\nB,soonish,\nC,1,X\n", "row 5, Time: 'soonish' is not a time"),
        ("Step,V,V\nA,X,X\n", "two columns are the signal V"),
        ("Step,Awaits,V\nA,Go,X\n,,X\n", "row 3: marks without a step, in V"),
        ("Step,Awaits\n,Go\n", "row 2: the first row has neither number nor name"),
        ("Red,Blue\n1,2\n", "no row has headings that are known"),
        ("Awaits,Next\nGo,2\n", "no column is the step's number or name"),
        ("Step,Awaits\n", "there is no step below these headings"),
    ],
)
def test_a_wrong_row_is_told_with_its_number_and_its_column(text, said):
    found = plan(text)
    assert said in str(found.problems[0])
    with pytest.raises(EditError):
        taken(Project(), found)


def test_workbooks_with_merged_cells_colours_times_and_several_sheets(tmp_path):
    book = Workbook()
    book.active.title = "Notes"
    book.active["A1"] = "nothing here"
    sheet = book.create_sheet("Plan")
    rows = [["Rinse plan"], [], ["Step", "Valve", "Heater", "Duration", "Awaits", "Next"], ["Fill", None, None, None, "Full", None],
            [None, None, None, None, "Jam", "Rest"], ["Soak", None, "X", None, None, None], ["Rest", None, None, None, "Go", "Fill"]]  # fmt: skip
    for row in rows:
        sheet.append(row)
    import datetime

    sheet["D6"] = datetime.time(0, 1, 30)
    sheet["B4"].fill = sheet["B6"].fill = PatternFill("solid", fgColor="92D050")
    sheet.merge_cells("A4:A5")
    sheet.merge_cells("B6:B7")
    listed = book.create_sheet("IO")
    for row in (["I/O list"], ["Symbol", "Adresse", "Datentyp", "Kommentar"], ["Valve", "A0.1", "Bool", "inlet"], ["Full", "E 0.0", "BOOL", None],
                ["Level", "EW4", "UINT", "in mm"]):  # fmt: skip
        listed.append(row)
    path = tmp_path / "plan.xlsx"
    book.save(path)
    found = read_tables(path)
    q = found.project.sequences[0]
    assert marked(q) == {"Fill": ["Valve N"], "Soak": ["Valve N", "Heater N"], "Rest": ["Valve N"]}
    assert ways(q) == ["10>20 Full", "10>30 Jam", "20>30 Soak.T >= T#1m30s", "30>10 Go"]
    signals = {s.name: s for s in found.project.signals}
    assert (signals["Valve"].address, signals["Full"].address, signals["Full"].cls) == ("%QX0.1", "%IX0.0", IN)
    assert signals["Level"].type is Type.DINT and any("UINT is taken as DINT" in str(n) for n in found.notes)
    assert [s.name for s in read_sheets(path)] == ["Notes", "Plan", "IO"]
    path.with_suffix(".xlsm").write_bytes(path.read_bytes())
    assert read_project(path.with_suffix(".xlsm")).sequences == found.project.sequences


def _ods(rows: list[list[str]]) -> bytes:
    """An OpenDocument spreadsheet of cells that are XML."""
    spaces = " ".join(f'xmlns:{n}="urn:oasis:names:tc:opendocument:xmlns:{n}:1.0"' for n in ("table", "office", "text"))
    inner = "".join(f"<table:table-row>{''.join(row)}</table:table-row>" for row in rows)
    sheet = f'<office:spreadsheet><table:table table:name="Plan">{inner}</table:table></office:spreadsheet>'
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as packed:
        packed.writestr(
            "content.xml",
            f"<office:document-content {spaces}><office:body>{sheet}</office:body></office:document-content>",
        )
    return out.getvalue()


def test_opendocument_old_workbooks_and_what_is_hidden_in_them(tmp_path):
    def cell(text: str, **more: str) -> str:
        given = " ".join(f'{k.replace("__", ":").replace("_", "-")}="{v}"' for k, v in more.items())
        return f"<table:table-cell {given}><text:p>{text}</text:p></table:table-cell>"

    rows = [
        [cell("Step"), cell("Time"), cell("Valve")],
        ['<table:table-cell table:number-columns-repeated="9"/>'],
        [cell("Fill"), cell("x", office__value_type="time", office__time_value="PT00H00M02S"), cell("X")],
        [cell("Rest"), cell("1,5", office__value_type="float", office__value="1.5")],
    ]
    path = tmp_path / "plan.ods"
    path.write_bytes(_ods(rows))
    assert ways(read_project(path).sequences[0]) == ["10>20 Fill.T >= T#2s", "20>10 Rest.T >= T#1s500ms"]
    evil = '<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]>'
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w") as packed:
        packed.writestr("content.xml", f"{evil}<x>&b;</x>")
    path.write_bytes(data.getvalue())
    with pytest.raises(FormatError, match="no ODS workbook"):
        read_project(path)
    old = tmp_path / "plan.xls"
    old.write_bytes(b"\xd0\xcf\x11\xe0")
    with pytest.raises(FormatError, match=r"save it as \.xlsx"):
        read_project(old)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_encodings_of_spreadsheets(encoding, tmp_path):
    path = tmp_path / "ablauf.csv"
    path.write_bytes(GERMAN.replace("\n", "\r\n").encode(encoding))
    assert read_project(path).sequences[0].step("Fuellen").comment == "Füllen"


def test_lists_of_signals_as_people_have_them():
    text = """Belegungsliste Halle 3;;;;;
;;;;;
Symbol;Signalart;Datentyp;Operand;Kontakt;Anfangswert;Bemerkung
NotHalt;Eingang;BOOL;E0.0;Öffner;;Tür links
Motor;Ausgang;Bit;A 4.2;;aus;
Soll;Parameter;Real;;;2,5;
Schichtzeit;Sollwert;Time;;;1,5 s;
Zaehler;Merker;WORD;MW10;;;
Falsch;Eingang;RUBEL;;;;
Tür zu;Eingang;BOOL;E0.1;;;
10S1;Eingang;BOOL;E0.2;;;links
10s1;Eingang;BOOL;E0.3;;;
---;Eingang;BOOL;E0.4;;;
"""
    found = plan_sheet(Project(), sheet_of_text(text))
    signals = {s.name: s for s in found.signals}
    assert (signals["NotHalt"].contact, signals["NotHalt"].address, signals["NotHalt"].comment) == (
        "nc",
        "%IX0.0",
        "Tür links",
    )
    assert (signals["Motor"].cls, signals["Motor"].address, signals["Motor"].initial) == (OUT, "%QX4.2", False)
    assert (signals["Soll"].cls.value, signals["Soll"].initial, signals["Schichtzeit"].initial) == (
        "setting",
        2.5,
        1500,
    )
    assert (signals["Zaehler"].cls.value, signals["Zaehler"].type, signals["Zaehler"].address) == (
        "internal",
        Type.DINT,
        "%MW10",
    )
    assert (signals["TuerZu"].comment, signals["_10S1"].comment) == ("Tür zu", "10S1: links")
    assert found.problems == (
        "row 9: 'RUBEL' is no type; there are BOOL, INT, DINT, REAL and TIME", "row 12: _10s1 stands in row 11 too",
        "row 13: '---' is not a name; use letters, digits and underscores, a letter first",
    )  # fmt: skip
    assert found.told[0] == "WORD is taken as DINT"
    assert found.told[1].startswith("names that are no identifiers: Tür zu is called TuerZu, 10S1 is called _10S1, ")
    strict = plan_import(Project(), [["Tür zu", "input"]], {0: "name", 1: "class"})
    assert len(strict.problems) == 1, "rows that are typed or pasted here are told"


def test_lists_of_points_say_class_and_type_in_one_word():
    text = """Tag,Type,Channel,Description,Units
LS-101,DI,0,Gate open limit,
LT-103,AI,0,Level,%
XV-201,DO,40001,Gate solenoid,
SC-301,analog output,12,Drive speed,rpm
Wait,TIMER,,,
Says,STRING,,,
"""
    found = plan_sheet(Project(), sheet_of_text(text))
    assert not found.problems
    assert [(s.name, s.cls.value, s.type.value, s.address, s.unit) for s in found.signals] == [
        ("LS101", "input", "BOOL", "", ""), ("LT103", "input", "REAL", "", "%"), ("XV201", "output", "BOOL", "40001", ""),
        ("SC301", "output", "REAL", "", "rpm"),
    ]  # fmt: skip
    assert {
        "AI is an input, REAL",
        "TIMER is no signal: left out",
        "a channel alone is no address: left out (3 signals)",
    } <= {*found.told}


def test_a_class_in_brackets_behind_a_heading_is_that_of_the_signal():
    text = "Nr.;Schritt;Messer (Ausgang);Deckel [input];Tempo (1/min);Nächster\n10;Ruhe;X;1;;20\n20;Lauf;;;30;10\n"
    found = plan(text)
    assert {s.name: s.cls.value for s in found.signals} == {
        "Messer": "output",
        "Deckel": "input",
        "Tempo1Min": "output",
    }
    assert not found.problems and not found.questions


def same(q: Sequence) -> Sequence:
    """Without what a table does not say: the order of marks in a step, and of steps that a way waits for."""
    at = {s.name: i for i, s in enumerate(q.steps)}
    steps = tuple(replace(s, actions=tuple(sorted(s.actions, key=str))) for s in q.steps)
    kept = [replace(t, sources=tuple(sorted(t.sources, key=lambda n: at[n]))) for t in q.transitions]
    return replace(q, steps=steps, transitions=tuple(sorted(kept, key=lambda t: at[t.sources[-1]])))


@hundreds
@given(st.one_of(projects(), structured()))
def test_a_workbook_reads_back_as_the_same_sequences_and_signals(tmp_path_factory, project):
    path = tmp_path_factory.getbasetemp() / "round.xlsx"
    write_tables(project, path)
    found = read_tables(path)
    assert not found.questions
    assert [same(q) for q in found.project.sequences] == [same(q) for q in project.sequences]
    assert found.project.signals == project.signals


def test_written_tables_are_made_for_a_colleague(tmp_path):
    roastery = loads((files("spokeshave.examples") / "roastery.spoke").read_text(encoding="utf-8"))
    path = tmp_path / "roastery.xlsx"
    write_project(roastery, path)
    book = load_workbook(path)
    sheet = book["Roast"]
    assert book.sheetnames == [*(q.name for q in roastery.sequences), "Signals", "Texts"]
    assert sheet["A1"].value == "Roast, sequence of Roastery" and sheet["A1"].font.bold and sheet.freeze_panes == "C5"
    heads = [c.value for c in sheet[4]]
    burner = heads.index("Burner") + 1
    assert sheet.cell(4, burner).alignment.text_rotation == 90 and sheet.cell(3, heads.index("Burner") + 1) is not None
    assert {sheet.cell(r, burner).alignment.horizontal for r in range(5, 10)} == {"center"}
    flow = [sheet.cell(r, heads.index("Flow") + 1).value for r in range(5, sheet.max_row + 1)]
    assert (
        {"↓"} < set(flow) and any(f and f.startswith("↑") for f in flow) and any(f and f.startswith("⇉") for f in flow)
    )
    again = read_project(path)
    assert [same(q) for q in again.sequences] == [same(q) for q in roastery.sequences] and again.name == "Roastery"
    with pytest.raises(FormatError, match="CSV is one table"):
        write_project(roastery, tmp_path / "roastery.csv")
    one = replace(Project("One", signals=roastery.signals), sequences=(roastery.sequence("Cool"),))
    write_project(one, tmp_path / "cool.csv")
    back = plan_sequence(read_sheets(tmp_path / "cool.csv")[0], Project(signals=one.signals)).sequence
    assert marked(back) == marked(one.sequences[0]) and len(back.transitions) == len(one.sequences[0].transitions)


@pytest.mark.parametrize(
    ("text", "marks", "wanted"),
    [
        ("No.;Name;Ausgänge;;Eingänge;;Wartezeit\n;;Y1;Y2;S1;S2;\n10;Start;;;1;0;\n20;Vor;X;;;1;1\n",
         {"Start": [], "Vor": ["Y1 N"]}, ["10>20 S1 AND NOT S2", "20>10 S2 AND Vor.T >= T#1s"]),
        (";Ventil 1;Motor;Bedingung weiter\nRuhe;0;0;Taste Start\nVor;1;1;Endschalter vorn = 1\nHeizen;1;0;Temperatur > 80\n",
         {"Ruhe": [], "Vor": ["Ventil1 N", "Motor N"], "Heizen": ["Ventil1 N"]},
         ["10>20 TasteStart", "20>30 EndschalterVorn", "30>10 Temperatur > 80"]),
        ("Step|Valve A|Until\nFill|open|level high\nHold|closed|after 30 s\n", {"Fill": ["ValveA N"], "Hold": []},
         ["10>20 LevelHigh", "20>10 Hold.T >= T#30s"]),
        ("step,output,condition,next\n1,\"V1, S V2\",Go,2\n2,V1; M1,Done,1\n", {"S1": ["V1 N", "V2 S"], "S2": ["V1 N", "M1 N"]},
         ["1>2 Go", "2>1 Done"]),
        ("Nr\tAktion\tBedingung\n1\tWarten\tStart\n2\tHeben EIN\tOben\n3\tHeben AUS, Senken EIN\tUnten\n4\tSenken AUS\t3 s\n",
         {"Warten": [], "HebenEIN": ["Heben S"], "HebenAUSSenkenEIN": ["Heben R", "Senken S"], "SenkenAUS": ["Senken R"]},
         ["1>2 Start", "2>3 Oben", "3>4 Unten", "4>1 SenkenAUS.T >= T#3s"]),
        ("No;Step;Outputs;Condition\n1;Rest;;Go\n2;Open;Flap ON, Fan (cold side) = 1;Opened\n3;Shut;reset Flap and set Horn;Closed\n",
         {"Rest": [], "Open": ["Flap S", "Fan S"], "Shut": ["Flap R", "Horn S"]}, ["1>2 Go", "2>3 Opened", "3>1 Closed"]),
        ("Step #,Action,PV01,Time [s],Next step\n0,Home,0,1,1\n1,Close press,1,12,0\n", {"Home": [], "ClosePress": ["PV01 N"]},
         ["0>1 Home.T >= T#1s", "1>0 ClosePress.T >= T#12s"]),
    ],
)  # fmt: skip
def test_tables_in_the_forms_that_people_have(text, marks, wanted):
    found = plan(text)
    assert not found.problems and marked(found.sequence) == marks and ways(found.sequence) == wanted
    assert link_problems(taken(Project(), found)) == []


def test_a_table_runs_as_it_says(tmp_path):
    project = taken(Project(), plan("Step,Time,V1,V2,Awaits\nRest,,,,Go\nA,0.1,X,,\nB,0.05,X,X,\n"))
    session = Session(project, (Stimulus(20, "set", "Go", True),))
    session.run_for(400)
    assert session.trace.changes(session.trace.column("V1"))[0].tolist()[:3] == [0, 2, 17]
    assert session.trace.changes(session.trace.column("V2"))[0].tolist()[:3] == [0, 12, 17]


def test_the_command_takes_what_is_clear_and_asks_for_the_rest(tmp_path: Path):
    run, app = CliRunner(), whole_app()
    clear, asks, wrong, out = (tmp_path / n for n in ("clear.csv", "asks.csv", "wrong.csv", "out.spoke"))
    clear.write_text("Step,V,Awaits,Next\nA,X,Go,\nB,,Done,A\n")
    asks.write_text("Step,V,Awaits\nA,1,Go\nB,0,Done\n")
    wrong.write_text("Step,V,Next\nA,X,\nB,,Q\n")
    assert (
        run.invoke(app, ["convert", str(clear), str(out)]).exit_code == 0
        and len(read_project(out).sequences[0].steps) == 2
    )
    assert run.invoke(app, ["convert", str(clear), str(out), "--strict"]).exit_code == 1
    out.unlink()
    refused = run.invoke(app, ["convert", str(asks), str(out)])
    assert (
        refused.exit_code == 2
        and "it may be an input" in refused.output
        and "--take" in refused.output
        and not out.exists()
    )
    assert run.invoke(app, ["convert", str(asks), str(out), "--take"]).exit_code == 0 and out.exists()
    out.unlink()
    told = run.invoke(app, ["convert", str(wrong), str(out), "--take"])
    assert told.exit_code == 2 and "row 3, Next: there is no step Q" in told.output and not out.exists()
    assert (
        run.invoke(app, ["check", str(asks)]).exit_code == 2
        and run.invoke(app, ["run", str(clear), "--for", "1s"]).exit_code == 0
    )
    book = tmp_path / "two.xlsx"
    made = Workbook()
    for name in ("Old", "New"):
        sheet = made.create_sheet(name)
        for row in (["Step", "V", "Awaits"], [f"{name}1", "X", "Go"], [f"{name}2", None, "Done"]):
            sheet.append(row)
    made.save(book)
    assert "look like sequences" in run.invoke(app, ["convert", str(book), str(out)]).output
    assert run.invoke(app, ["convert", str(book), str(out), "--sheet", "New"]).exit_code == 0
    assert [s.name for s in read_project(out).sequences[0].steps] == ["New1", "New2"]
    assert "there is no sheet Newer" in run.invoke(app, ["convert", str(book), str(out), "--sheet", "Newer"]).output
