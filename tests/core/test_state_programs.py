"""Programs written by hand in many idioms, read as a person would draw them (`state_programs/as_charts.txt`), and the reading itself."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from spokeshave.engine.link import link_problems
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec, parse_states
from spokeshave.formats.iec_write import write_iec
from spokeshave.formats.states.choices import FLAGS, Choices
from spokeshave.formats.states.foreign import made_fit
from spokeshave.model.project import SignalClass
from spokeshave.reading import Reading, read_text

HERE = Path(__file__).parent / "state_programs"
PROGRAMS = sorted(HERE.glob("*.st"))


def drawn(file: Path, found: Reading) -> str:
    """A program as it was read: what form it took, steps with their marks and ways, bodies, logic."""
    kept = "text" if found.choices is None else " ".join(n for n in FLAGS if not getattr(found.choices, n))
    if found.choices is not None and found.choices.apart:
        kept = f"{kept} apart {' '.join(sorted(found.choices.apart))}".strip()
    lines = [f"== {file.stem}: {kept or 'nice'}{', early' * ('earlier' in found.shown)}"]
    for q in found.project.sequences:
        lines.append(f"{q.name}" + f" held while {q.hold_when}" * bool(q.hold_when))
        for s in q.steps:
            marks = " ".join(f"{a.target}({a.qualifier})" for a in s.actions)
            ways = "; ".join(f"{t.targets[0]} if {t.condition}" for _, t in q.leaving(s.name))
            lines.append(f"  {s.number} {s.name} [{marks}] -> {ways}")
        lines += [f"  {b.name}: " + " ".join(b.text.split()) for b in q.bodies]
    for name in ("opening", "closing"):
        text = getattr(found.project, name)
        lines += [f"  {name}: " + " ".join(text.split())] * bool(text)
    return "\n".join(lines)


@pytest.mark.parametrize("file", PROGRAMS, ids=lambda f: f.stem)
def test_a_program_is_read_as_a_person_would_draw_it(file):
    expected = (HERE / "as_charts.txt").read_text().split("\n\n")
    found = read_text(file.read_text())
    mine = drawn(file, found)
    assert mine == next(x.strip() for x in expected if x.startswith(f"== {file.stem}:"))
    project = found.project
    assert not link_problems(project) and parse_iec(write_iec(project)) == project


def test_there_are_programs_of_forty_kinds_and_most_take_the_nicest_form():
    forms = [x.partition(": ")[2].split("\n")[0] for x in (HERE / "as_charts.txt").read_text().split("\n\n")]
    assert len(PROGRAMS) >= 40 and sum(f.startswith("nice") for f in forms) >= 35 and forms.count("text") <= 2


def test_what_became_of_the_text_is_told_with_its_lines():
    found = read_text((HERE / "15-entry-pulse-below.st").read_text())
    told = {n.line: n.text for n in found.notes}
    assert told[22] == "Count_Dips runs in Soaking when it is entered"
    assert "runs beside the text" in found.shown and "the outputs change in the same scans" in found.shown


def test_rows_of_an_array_have_the_addresses_behind_its_own():
    found = read_text((HERE / "80-arrays-of-signals.st").read_text()).project
    addresses = {s.name: s.address for s in found.signals if s.name.startswith("aSens")}
    assert addresses == {"aSens_1": "%IX1.6", "aSens_2": "%IX1.7", "aSens_3": "%IX2.0", "aSens_4": "%IX2.1"}
    assert {s.name for s in found.signals if s.cls.value == "output"} == {"aVlv_1", "aVlv_2", "aVlv_3"}


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (("S2 := TRUE; S1 := FALSE", "S2 := TRUE"), "one is set and none is cleared"),
        (("S1 := TRUE; Init := TRUE", "Init := TRUE"), "none is on at first"),
        (("S3 := TRUE; S2 := FALSE", "S3 := a; S2 := FALSE"), "one is worked out"),
    ],
)
def test_flags_that_are_no_steps_are_told_to_be_no_sequence(change, why):
    text = (HERE / "79-step-flags-begun.st").read_text()
    assert read_text(text).project.sequences and change[0] in text
    with pytest.raises(FormatError, match="there is no sequence in this text"):
        read_text(text.replace(*change))


def test_a_plainer_form_says_what_the_nicer_one_did_otherwise():
    found = read_text((HERE / "43-held-input.st").read_text())
    assert found.choices is not None and not found.choices.stay
    assert any("Pulses is" in n.text for n in found.notes), "a count that comes one scan early would add up"


@pytest.mark.parametrize(
    ("line", "message"),
    [
        ("2: State := Number;", "a state is a whole number or a constant"),
        ("2: State := State * Number;", "a state is a whole number or a constant"),
        ("2: WHILE A DO State := 1; END_WHILE;", "the state is set inside a loop"),
        ("2: State := 7;", "there is no state 7"),
        ("1: State := 2;", "state 1 stands twice"),
        ("3..2000000: ;", "states in one label"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_refused_with_its_place(line, message):
    text = ("PROGRAM P VAR_INPUT A : BOOL; Number : INT; END_VAR VAR State : INT := 1; END_VAR\n"
            f"CASE State OF\n1: IF A THEN State := 2; END_IF;\n{line}\nEND_CASE;\nEND_PROGRAM")  # fmt: skip
    with pytest.raises(FormatError, match=message) as told:
        parse_iec(text)
    assert told.value.line == 4 and told.value.column > 0


def test_a_variable_called_step_may_be_the_state_and_nothing_else():
    text = ("PROGRAM P VAR_INPUT A : BOOL; END_VAR VAR Step : INT; {} END_VAR\n"
            "CASE Step OF 0: IF A THEN Step := 1; END_IF; 1: Step := 0; END_CASE; END_PROGRAM")  # fmt: skip
    assert read_text(text.format("")).shown and parse_iec(text.format("")).signal("Step") is None
    row = "".join(f"IF Step = {i} AND A THEN Step := {(i + 1) % 17}; END_IF;\n" for i in range(17))
    kept = read_text(re.sub("CASE .* END_CASE;", row, text).format(""))
    assert kept.choices is None and kept.project.signal("The_Step") is None, (
        "what a scan passes of so many states is not drawn"
    )
    with pytest.raises(FormatError, match="Exit is a word of the language; choose another name"):
        parse_iec(text.replace("1: Step", "1: Exit := A; Step").format("Exit : BOOL;"))


def test_variables_may_be_called_as_functions_and_types_are():
    text = ("PROGRAM P VAR_INPUT Sel AT %I* : INT; Time : BOOL; END_VAR VAR Limit : TON; Max : INT; State : INT; END_VAR\n"
            "Limit(IN := State = 1, PT := T#2s);\nCASE State OF\n0: IF Sel = 3 AND Time THEN State := 1; Max := MAX(Max, Sel); END_IF;\n"
            "1: IF Limit.Q THEN State := 0; END_IF;\nEND_CASE;\nEND_PROGRAM")  # fmt: skip
    found = read_text(text)
    (q,) = found.project.sequences
    assert [t.condition for t in q.transitions] == ["SelSignal = 3 AND TimeSignal", "S1.T > T#2s"]
    assert q.bodies[0].text == "MaxSignal := MAX(MaxSignal, SelSignal);"
    sel = found.project.signal("SelSignal")
    assert sel is not None and sel.cls is SignalClass.INPUT and not sel.address
    assert "Time is a word of this program: the variable is called TimeSignal" in [n.text for n in found.notes]
    fit, _ = made_fit(
        "FUNCTION F : TIME VAR Time : TIME; Limit : TON; END_VAR CASE 1 OF 1: Limit(); 2: Time := LIMIT(Time, F, F); END_CASE; END_FUNCTION"
    )
    assert fit == (
        "FUNCTION F : TIME VAR TimeSignal : TIME; LimitSignal : TON; END_VAR CASE 1 OF 1: LimitSignal(); "
        "2: TimeSignal := LIMIT(TimeSignal, F, F); END_CASE; END_FUNCTION"
    )


def test_a_state_that_only_an_otherwise_reaches_is_called_as_it_is_assigned():
    text = ("PROGRAM P VAR_INPUT A : BOOL; END_VAR VAR_OUTPUT B : BOOL; END_VAR VAR s : (idle, left, done); END_VAR\n"
            "IF s = idle THEN IF A THEN s := left; END_IF; ELSIF s = left THEN s := done; ELSE s := idle; END_IF;\n"
            "B := s = left;\nEND_PROGRAM")  # fmt: skip
    assert [s.name for s in parse_iec(text).sequences[0].steps] == ["idle", "left", "done"]


def test_a_variable_that_is_odd_does_not_spoil_the_chart():
    """The lamp is put out where the way out is asked for, though the halt keeps the state: no mark and no body says that."""
    text = """PROGRAM P VAR_INPUT Go, Ok, Up, Down : BOOL; END_VAR VAR_OUTPUT Lift, Grip, Lamp : BOOL; END_VAR
      VAR s, Last, N : INT; e : R_TRIG; t : TON; END_VAR
      e(CLK := Go); t(IN := s = Last, PT := T#10s); Last := s;
      CASE s OF
      0: Lift := FALSE; Grip := FALSE; IF Ok THEN s := 1; END_IF;
      1: IF e.Q THEN s := 2; END_IF;
      2: Grip := TRUE; IF t.ET >= T#1s THEN s := 3; END_IF;
      3: Lift := TRUE; IF Up THEN s := 4; ELSIF t.Q THEN s := 9; END_IF;
      4: Grip := FALSE; N := N + 1; s := 5;
      5: Lift := FALSE; IF Down THEN s := 1; ELSIF t.Q THEN s := 9; END_IF;
      9: Lamp := TRUE; IF e.Q THEN Lamp := FALSE; s := 0; END_IF;
      END_CASE;
      IF NOT Ok THEN s := 9; END_IF;
    END_PROGRAM"""
    found = read_text(text)
    chart = found.project.sequences[0]
    assert found.choices is not None and "Lamp := FALSE" in found.project.opening
    assert {"S2.T > T#1s10ms", "S3.T > T#10s10ms"} <= {t.condition for t in chart.transitions}, (
        "times of steps all the same"
    )
    assert not found.project.instances or [i.name for i in found.project.instances] == ["e"]


def test_two_thousand_lines_are_read_in_the_time_of_a_parser():
    """Two hundred states with their timers: nothing in the reading grows faster than the text."""
    states = "".join(
        f"{n}: (* Part {n} *)\n  IF A AND NOT B\n  THEN\n    State := {n + 1};\n  ELSIF T{n}.Q\n  THEN\n    State := 0;\n  END_IF;\n"
        for n in range(200)
    )
    timers = "".join(f"T{n}(IN := State = {n}, PT := T#2s);\n" for n in range(200))
    declared = ", ".join(f"T{n}" for n in range(200))
    text = (f"PROGRAM P VAR_INPUT A, B : BOOL; END_VAR VAR_OUTPUT X : BOOL; END_VAR VAR State : INT; {declared} : TON; END_VAR\n"
            f"{timers}CASE State OF\n{states}200: State := 0;\nEND_CASE;\nX := State > 9;\nEND_PROGRAM")  # fmt: skip
    assert text.count("\n") > 1800
    (q,) = parse_states(text).project(Choices()).sequences
    assert len(q.steps) == 201 and len(q.transitions) == 400 and q.steps[7].name == "Part_7"


def test_what_a_text_leaves_out_is_guessed_and_said():
    found = read_text((HERE / "47-all-in-var.st").read_text())
    classes = {s.name: s.cls.value for s in found.project.signals}
    assert classes == {
        "Go": "input",
        "Full": "input",
        "Empty": "input",
        "Feed": "output",
        "Shake": "output",
        "uiCount": "internal",
    }
    told = [n.text for n in found.notes]
    assert "Go is taken as an input, since nothing sets it" in told and "USINT is taken as INT" in told


def test_convert_tells_line_by_line_what_became_of_a_program(tmp_path):
    from typer.testing import CliRunner

    from spokeshave.cli import whole_app

    done = CliRunner().invoke(whole_app(), ["convert", str(HERE / "21-timeout-below.st"), str(tmp_path / "x.spoke")])
    assert done.exit_code == 0 and not done.stdout
    assert "21-timeout-below.st:12: Watch is called above, with one scan less" in done.stderr
    assert "the state changes in the same scans" in done.stderr


def test_a_text_of_another_program_is_made_fit_and_says_so():
    """A block alone runs as the program, semicolons that others do not want are put in, words of ours get another name."""
    found = read_text((HERE / "54-block-with-enumeration.st").read_text())
    told = [n.text for n in found.notes]
    assert "the block KilnDoor runs as the program of the machine" in told and found.project.name == "KilnDoor"
    assert "a semicolon was put behind 6 statements, such as this END_IF" in told
    text = (HERE / "01-mapped.st").read_text()
    name = re.search(r"VAR_INPUT\s+(\w+)", text)[1]
    renamed = read_text(re.sub(rf"\b{name}\b", "Home", text))
    assert renamed.project.signal("HomeSignal") is not None and renamed.project.signal("Home") is None
    assert "Home is a word of this program: the variable is called HomeSignal" in [n.text for n in renamed.notes]
    plain = read_text(text)
    assert [s.name for s in renamed.project.sequences[0].steps] == [s.name for s in plain.project.sequences[0].steps]
    two = "FUNCTION_BLOCK A\nVAR X : INT; END_VAR\nIF X = 1 THEN X := 2; END_IF;\nEND_FUNCTION_BLOCK\n"
    with pytest.raises(FormatError, match="there is no"):
        read_text(two + two.replace(" A\n", " B\n"))


@pytest.mark.parametrize("file", PROGRAMS, ids=lambda f: f.stem)
def test_a_program_without_semicolons_in_a_block_of_its_own_is_the_same(file):
    """As other programs write it out: no semicolon behind the end of a statement, a block in the place of the program."""
    text = file.read_text()
    usual = parse_states(text).project(Choices())
    bare = re.sub(r"\b(END_IF|END_CASE)\s*;", r"\1", text)
    if len(re.findall(r"\bPROGRAM\b", bare)) == 2 and "VAR_GLOBAL" not in bare:  # one PROGRAM and its END_PROGRAM
        bare = bare.replace("END_PROGRAM", "END_FUNCTION_BLOCK").replace("PROGRAM", "FUNCTION_BLOCK", 1)
    found = parse_states(bare).project(Choices())
    assert [(q.name, q.steps, q.transitions) for q in found.sequences] == [
        (q.name, q.steps, q.transitions) for q in usual.sequences
    ]
    assert found.signals == usual.signals and found.trips == usual.trips
