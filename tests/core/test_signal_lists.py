"""Signal lists: addresses that clash, tables of others, lists that come back as they went, filling down."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.formats.errors import FormatError
from spokeshave.formats.signal_table import (
    FIELDS,
    guess_mapping,
    parse_rows,
    plan_import,
    read_rows,
    table_rows,
    write_table,
)
from spokeshave.model.addresses import (
    address_problem,
    address_problems,
    following,
    next_address,
    read_address,
)
from spokeshave.model.project import Project, Sequence, Signal, SignalClass, Step, Type

AREA = {SignalClass.INPUT: "I", SignalClass.OUTPUT: "Q"}


@st.composite
def listed(draw: st.DrawFn) -> tuple[Signal, ...]:
    """Signals with addresses that often lie on each other."""
    out = []
    for n in range(draw(st.integers(1, 12))):
        cls = draw(st.sampled_from((SignalClass.INPUT, SignalClass.OUTPUT)))
        kind = draw(st.sampled_from((Type.BOOL, Type.BOOL, Type.INT, Type.REAL)))
        byte = draw(st.integers(0, 7))
        address = {
            Type.BOOL: f"%{AREA[cls]}X{byte}.{draw(st.integers(0, 7))}",
            Type.INT: f"%{AREA[cls]}W{byte // 2}",
            Type.REAL: f"%{AREA[cls]}D{byte // 4}",
        }[kind]
        out.append(Signal(f"S{n}", cls, kind, draw(st.sampled_from((address, address, "")))))
    return tuple(out)


def bits(address: str) -> set[tuple[str, int]]:
    """By hand: every bit that an address takes."""
    area, size, rest = address[1], address[2], address[3:]
    if size == "X":
        byte, bit = rest.split(".")
        return {(area, 8 * int(byte) + int(bit))}
    width = {"W": 16, "D": 32}[size]
    return {(area, width * int(rest) + b) for b in range(width)}


@settings(max_examples=200, deadline=None)
@given(listed())
def test_signals_that_take_the_same_bits_are_told_and_no_others(signals):
    taken = [bits(s.address) if s.address else set() for s in signals]
    clash = {s.name for i, s in enumerate(signals) if any(taken[i] & taken[j] for j in range(len(signals)) if j != i)}
    found = address_problems(signals)
    assert set(found) == clash
    for name, text in found.items():
        other = re.search(r"of (S\d+) ", text)
        assert other and other[1] in clash - {name}


@settings(max_examples=200, deadline=None)
@given(listed(), st.integers(0, 11))
def test_the_next_free_address_is_free_and_fits_its_signal(signals, at):
    row = at % len(signals)
    address = next_address(signals, row)
    assert not address_problem(signals, row, address)
    with_it = tuple(replace(s, address=address) if i == row else s for i, s in enumerate(signals))
    assert signals[row].name not in address_problems(with_it)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("IX0.0", "write it like"), ("%IX0.8", "a byte has bits 0 to 7"), ("%IW3.1", "only a bit has a point"),
        ("%QX0.0", "it begins with %I"), ("%IX0.1", "the address of Other"), ("%IB0", "part of the address of Other"),
        ("", ""), ("%IX5.0", ""),
    ],
)  # fmt: skip
def test_a_wrong_address_is_told_while_it_is_typed(text, says):
    signals = (Signal("This", SignalClass.INPUT), Signal("Other", SignalClass.INPUT, address="%IX0.1"))
    problem = address_problem(signals, 0, text)
    assert says in problem and bool(problem) == bool(says)


def test_a_number_needs_as_many_bits_as_its_type_has():
    signals = (Signal("Level", SignalClass.INPUT, Type.REAL),)
    assert "too small for REAL; use %ID" in address_problem(signals, 0, "%IW4")
    assert not address_problem(signals, 0, "%ID1")


@given(st.integers(0, 40), st.integers(1, 20))
def test_filling_down_counts_addresses_and_names(first, by):
    start = f"%QX{first // 8}.{first % 8}"
    assert read_address(following(start, by)).first == first + by
    assert following(f"Lamp{first:02}", by) == f"Lamp{first + by:02}"
    assert following("Gate", by) == "Gate"


# -- tables

NAMES = st.from_regex(r"Sig[A-Z][a-z]{1,8}[0-9]?", fullmatch=True)


@st.composite
def signal(draw: st.DrawFn) -> Signal:
    kind = draw(st.sampled_from(list(Type)))
    cls = draw(st.sampled_from(list(SignalClass)))
    values = {
        Type.BOOL: st.booleans(),
        Type.INT: st.integers(-9, 9),
        Type.DINT: st.integers(-90000, 90000),
        Type.REAL: st.floats(-50, 50),
        Type.TIME: st.integers(0, 100_000),
    }[kind]
    contact = draw(st.sampled_from(("no", "nc"))) if cls is SignalClass.INPUT and kind is Type.BOOL else "no"
    comment = draw(st.sampled_from(("", "a, b; c", 'says "stop"', "Wärme über 40 °C", "line")))
    return Signal(
        draw(NAMES), cls, kind, draw(st.sampled_from(("", "%IX0.0", "%MW3"))), comment,
        draw(st.none() | values), draw(st.none() | values), contact, draw(st.booleans()), draw(st.sampled_from(("", "mm"))),
    )  # fmt: skip


@pytest.mark.parametrize("suffix", [".csv", ".xlsx"])
@settings(max_examples=40, deadline=None)
@given(signals=st.lists(signal(), min_size=1, max_size=6, unique_by=lambda s: s.name.lower()))
def test_a_written_list_comes_back_the_same(suffix, signals, tmp_path_factory):
    path = tmp_path_factory.mktemp("lists") / f"list{suffix}"
    write_table(signals, path)
    rows = read_rows(path)
    assert tuple(rows[0]) == FIELDS
    plan = plan_import(Project(), rows[1:], guess_mapping(rows[0]))
    assert plan.problems == () and plan.signals == tuple(signals)


def test_headings_of_others_are_guessed_and_what_is_not_known_is_left_out():
    rows = parse_rows("Tag;Data Type;Addr;Remark;Colour\nHopper;Bit;%IX1.0;level switch;red\nSpeed;WORD;%QW2;;\n")
    mapping = guess_mapping(rows[0])
    assert mapping == {0: "name", 1: "type", 2: "address", 3: "comment"}
    plan = plan_import(Project(), rows[1:], mapping)
    assert [(s.name, s.cls, s.type, s.comment) for s in plan.signals] == [
        ("Hopper", SignalClass.INPUT, Type.BOOL, "level switch"), ("Speed", SignalClass.OUTPUT, Type.DINT, ""),
    ]  # fmt: skip
    assert plan.told == ("WORD is taken as DINT",)


def test_a_wiring_list_gives_its_contacts_by_their_words_and_a_terminal_is_no_address_beside_one():
    rows = parse_rows(
        "Klemme;BMK;Funktion;Typ;SPS-Adresse\nX1:1;-S1;Taster Start (S);DI;E 0.0\nX1:2;-S2;Taster Halt (Ö);DI;E 0.1\n"
        "X1:3;-S3;Gate closed, NC;DI;E 0.2\nX1:4;-S4;NCO running;DI;E 0.3\nX2:1;-K1;Lock (NC);DO;A 4.0\n"
    )
    plan = plan_import(Project(), rows[1:], guess_mapping(rows[0]), foreign=True)
    assert plan.problems == ()
    assert [(s.name, s.address, s.contact) for s in plan.signals] == [
        ("S1", "%IX0.0", "no"), ("S2", "%IX0.1", "nc"), ("S3", "%IX0.2", "nc"), ("S4", "%IX0.3", "no"), ("K1", "%QX4.0", "no"),
    ]  # fmt: skip
    assert any("NC" in line for line in plan.told)


@pytest.mark.parametrize(
    ("initial", "kind", "value"),
    [
        ("T#20s", Type.TIME, 20_000),
        ("1,5 s", Type.TIME, 1_500),
        ("2.5", Type.REAL, 2.5),
        ("12", Type.INT, 12),
        ("1", Type.BOOL, True),
    ],
)
def test_where_a_list_has_no_types_a_value_says_its_own(initial, kind, value):
    plan = plan_import(Project(), [["Soak", "param", initial]], {0: "name", 1: "class", 2: "initial"})
    assert plan.problems == () and [(s.cls, s.type, s.initial) for s in plan.signals] == [
        (SignalClass.SETTING, kind, value)
    ]


def test_known_names_are_changed_where_the_table_says_something_and_kept_where_it_does_not():
    project = Project(signals=(Signal("Gate", SignalClass.OUTPUT, address="%QX0.0", comment="old"),))
    plan = plan_import(project, [["gate", "", "new"], ["Fan", "%QX0.1", ""]], {0: "name", 1: "address", 2: "comment"})
    assert plan.changed == ("Gate",) and plan.new == ("Fan",)
    assert plan.signals[0] == replace(project.signals[0], comment="new")


@pytest.mark.parametrize(
    ("row", "says"),
    [
        (["9wrong", "input", "BOOL", ""], "row 2: '9wrong' is not a name"),
        (["Go", "sideways", "BOOL", ""], "is no class; a signal is input"),
        (["Go", "input", "CHAR", ""], "is no type; there are BOOL"),
        (["Go", "input", "BOOL", "maybe"], "maybe"),
        (["Main", "input", "BOOL", ""], "the name of a sequence"),
        (["", "input", "BOOL", ""], "is not a name"),
    ],
)  # fmt: skip
def test_a_wrong_row_is_told_with_its_number_and_the_others_are_taken(row, says):
    project = Project(sequences=(Sequence("Main", "A", (Step("A", 10),)),))
    plan = plan_import(project, [row, ["Good", "input", "BOOL", ""]], {0: "name", 1: "class", 2: "type", 3: "initial"})
    assert len(plan.problems) == 1 and says in plan.problems[0]
    assert plan.new == ("Good",)


def test_a_name_that_stands_twice_and_a_missing_name_column_are_told():
    plan = plan_import(Project(), [["Go"], ["GO"]], {0: "name"})
    assert plan.problems == ("row 3: GO stands in row 2 too",)
    assert plan_import(Project(), [["x"]], {0: "comment"}).problems == (
        "no column is the name of the signal; choose one",
    )


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [("a.csv", b"\xff\xfe\x00", "UTF-8"), ("a.csv", b"a\0b", "zero bytes"), ("a.xlsx", b"no workbook", "no XLSX workbook"),
     ("missing.csv", None, "No such file")],
)  # fmt: skip
def test_a_file_that_is_no_table_is_refused_with_its_name(name, content, says, tmp_path):
    path = tmp_path / name
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(FormatError, match=says) as error:
        read_rows(path)
    assert name in str(error.value)


def test_cells_that_a_spreadsheet_would_take_for_formulas_are_written_as_text(tmp_path):
    path = tmp_path / "list.xlsx"
    write_table([Signal("Go", SignalClass.INPUT, comment="=1+1")], path)
    assert read_rows(path)[1][-1] == "=1+1"
    assert table_rows([Signal("Go", SignalClass.INPUT, comment="=1+1")])[1][-1] == "=1+1"
