"""Files that are damaged, hostile or just large: told in a few words before memory and time are spent on them."""

from __future__ import annotations

import io
import json
import os
import random
import re
import time
import zipfile
from collections.abc import Callable
from dataclasses import replace
from functools import cache, partial
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import Workbook

from spokeshave.engine.link import link, link_problems
from spokeshave.engine.session import Session
from spokeshave.formats import signal_table, spoke
from spokeshave.formats.brief_text import parse_brief
from spokeshave.formats.disk import LARGEST_TEXT, write_text_atomically
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_code, write_iec
from spokeshave.formats.pragma import _pragma, make_pragma, take_pragma
from spokeshave.formats.tables import grid
from spokeshave.language.unit_deviations import deviations
from spokeshave.language.units import add_copy
from spokeshave.model.project import Instance, Project, Sequence, Signal, SignalClass, Step, Transition, Type, Unit
from spokeshave.reading import read_iec, read_project
from spokeshave.verify.check import findings
from tests.conftest import EXAMPLES

SHAPES = [None, 1, "x", [], {}, [1], {"a": 1}, [[]], True, -1e99, "\ud800"]


def other_shape(data: object, chance: random.Random) -> None:
    """One place of JSON data gets another shape."""
    while isinstance(data, (dict, list)) and data:
        key = chance.choice(list(data) if isinstance(data, dict) else range(len(data)))
        inner = data[key]
        if not isinstance(inner, (dict, list)) or not inner or chance.random() < 0.3:
            data[key] = chance.choice(SHAPES)
            return
        data = inner


VALUES = [
    0,
    -1,
    1,
    1e308,
    -1e308,
    2**31,
    2**64,
    0.5,
    True,
    None,
    "",
    [],
    "T#-5s",
    "T#999999999h",
    "1/0",
    "\u202e",
    "A" * 300,
]


def other_value(data: object, chance: random.Random) -> None:
    """One place of a file says something else: an extreme, or what stands elsewhere in it; one item of a list is gone or twice."""
    while True:
        key = chance.choice(list(data) if isinstance(data, dict) else range(len(data)))  # type: ignore[arg-type]
        inner = data[key]  # type: ignore[index]
        if isinstance(inner, list) and inner and chance.random() < 0.3:
            again = chance.random() < 0.5
            inner[:] = [*inner, chance.choice(inner)] if again else [x for x in inner if x is not chance.choice(inner)]
            return
        if not isinstance(inner, (dict, list)) or not inner:
            others = [v for v in (data.values() if isinstance(data, dict) else data) if isinstance(v, str)]  # type: ignore[union-attr]
            data[key] = chance.choice([*VALUES, *others])  # type: ignore[index]
            return
        data = inner


@settings(max_examples=150)
@given(st.integers(0, 2**40))
def test_a_machine_file_that_says_something_else_is_checked_and_runs_or_is_told(seed):
    chance = random.Random(seed)
    data = json.loads((EXAMPLES / f"{chance.choice(('roastery', 'lock', 'carousel'))}.spoke").read_text())
    for _ in range(chance.choice((1, 1, 2, 3))):
        other_value(data, chance)
    try:
        project = spoke.loads(json.dumps(data))
    except FormatError as error:
        assert 0 < len(str(error)) < 400
        return
    told = [d for d in findings(project) if d.severity == "error"]
    problems = link_problems(project)
    assert bool(told) >= bool(problems)
    if not problems:
        session = Session(project)
        session.run_scans(20)
        assert session.k == 20 or session.stopped


@pytest.mark.parametrize(
    ("spoilt", "message"),
    [
        (lambda p: replace(p, tables=(replace(p.tables[0], rows=(p.tables[0].rows[0][:-1],)),)), "row 1 has"),
        (lambda p: replace(p, tables=(replace(p.tables[0], columns=()),)), "the table has no values"),
        (
            lambda p: replace(p, devices=(replace(p.devices[0], parameters=(("extend_s", 1e308),)),)),
            "too large; below 1e+09",
        ),
    ],
)
def test_what_a_file_has_too_little_or_too_much_of_is_told_at_it(spoilt, message):
    carousel = spoke.read(EXAMPLES / "carousel.spoke")
    assert any(message in d.message for d in findings(spoilt(carousel)))


@cache
def roastery_text() -> tuple[str, str]:
    """The roastery as IEC text, and its pragma."""
    project = spoke.read(EXAMPLES / "roastery.spoke")
    return write_iec(project), make_pragma(project)


@settings(max_examples=80)
@given(st.integers(0, 2**40))
def test_a_pragma_of_another_shape_is_taken_or_told(seed):
    text, pragma = roastery_text()
    data = take_pragma(pragma)[1]
    other_shape(data, random.Random(seed))
    try:
        project = read_iec(text.replace(pragma, _pragma(data or {})))
    except FormatError as error:
        assert 0 < len(str(error)) < 400
    else:
        assert spoke.loads(spoke.dumps(project)) == project


@settings(max_examples=80)
@given(st.integers(0, 2**40))
def test_a_machine_file_of_another_shape_is_taken_whole_or_told(seed):
    data = json.loads((EXAMPLES / "roastery.spoke").read_text())
    other_shape(data, random.Random(seed))
    try:
        project = spoke.loads(json.dumps(data))
    except FormatError as error:
        assert 0 < len(str(error)) < 400
    else:
        assert spoke.dumps(project).encode()  # what can be opened can be written


@cache
def workbook() -> bytes:
    book, out = Workbook(), io.BytesIO()
    for i in range(20):
        book.active.append(["Name", "Type", i, "x" * i, i * 1.5])
    book.save(out)
    return out.getvalue()


@settings(max_examples=120)
@given(seed=st.integers(0, 2**40))
def test_a_damaged_workbook_is_read_or_told(tmp_path_factory, seed):
    chance = random.Random(seed)
    data = bytearray(workbook())
    if chance.random() < 0.4:
        for _ in range(chance.randint(1, 30)):
            data[chance.randrange(len(data))] = chance.randrange(256)
    else:  # the package is whole, and what is in it is not
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(workbook())) as parts, zipfile.ZipFile(out, "w") as damaged:
            for part in parts.infolist():
                text = bytearray(parts.read(part))
                for _ in range(chance.choice((0, 0, 3))):
                    at = chance.randrange(len(text))
                    text[at : at + chance.randint(0, 9)] = bytes(
                        chance.randrange(32, 127) for _ in range(chance.randint(0, 6))
                    )
                if chance.random() < 0.9:
                    damaged.writestr(part.filename, bytes(text))
        data = bytearray(out.getvalue())
    path = tmp_path_factory.getbasetemp() / f"damaged-{os.getpid()}.xlsx"
    path.write_bytes(data)
    try:
        rows = signal_table.read_rows(path)
    except FormatError as error:
        assert 0 < len(str(error)) < 400
    else:
        assert len(rows) <= 20


def test_a_workbook_that_would_fill_the_memory_is_not_unpacked(tmp_path):
    path = tmp_path / "bomb.xlsx"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("xl/worksheets/sheet1.xml", b" " * (grid.LARGEST_UNPACKED + 1))
    assert path.stat().st_size < 200_000
    with pytest.raises(FormatError, match="bytes unpacked; at most"):
        signal_table.read_rows(path)


@pytest.mark.parametrize("suffix", [".spoke", ".st"])
def test_what_is_no_file_is_told_and_not_waited_for(tmp_path, suffix):
    pipe, folder, zero = (tmp_path / f"{n}{suffix}" for n in ("pipe", "folder", "zero"))
    os.mkfifo(pipe)
    folder.mkdir()
    zero.symlink_to("/dev/zero")
    for path, said in ((pipe, "a device or a pipe"), (zero, "a device or a pipe"), (folder, "a folder")):
        with pytest.raises(FormatError, match=said):
            read_project(path)
        with pytest.raises(FormatError, match="could not be written"):
            write_text_atomically("x", path)
    assert pipe.is_fifo()


def test_a_file_that_is_too_large_is_not_read(tmp_path):
    path = tmp_path / "large.st"
    with path.open("wb") as out:
        out.truncate(LARGEST_TEXT + 1)
    with pytest.raises(FormatError, match="20,000,001 bytes; at most 20,000,000 are read"):
        read_project(path)


def test_half_a_character_is_told_when_it_is_opened_and_when_it_is_written(tmp_path):
    text = spoke.dumps(Project("M", sequences=(Sequence("Q", "A", (Step("A", 10),)),))).replace('"M"', '"M\\ud800"')
    with pytest.raises(FormatError, match="half a character"):
        spoke.loads(text)
    with pytest.raises(FormatError, match="half a character"):
        spoke.write(Project("M\ud800"), tmp_path / "m.spoke")
    assert not list(tmp_path.iterdir())


def of_cells(inner: str) -> bytes:
    """A workbook of one sheet that holds this."""
    out, book = io.BytesIO(), Workbook()
    book.save(out)
    packed = io.BytesIO()
    with zipfile.ZipFile(out) as parts, zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as changed:
        for part in parts.infolist():
            text = parts.read(part)
            if part.filename.endswith("sheet1.xml"):
                text = re.sub(rb"<sheetData ?/>|<sheetData></sheetData>", inner.encode(), text)
            changed.writestr(part.filename, text)
    return packed.getvalue()


ROWS = "".join(f'<row r="{i}"><c r="XFD{i}"><v>1</v></c></row>' for i in range(1, 400))
MERGED = "".join(f'<mergeCell ref="A{i}:SF{i + 900}"/>' for i in range(1, 20))
LONG = f'<row r="1"><c r="A1" t="inlineStr"><is><t>{"A" * (grid.LONGEST_CELL + 1)}</t></is></c></row>'


@pytest.mark.parametrize(
    ("inner", "told"),
    [
        ("<c/>", "tags; at most"),
        (f"<sheetData>{LONG}</sheetData>", "the cell A1 of Sheet has 32,768 characters"),
        (f"<sheetData>{ROWS}</sheetData><mergeCells>{MERGED}</mergeCells>", "merged cells cover 8,559,500 cells"),
        (f"<sheetData>{ROWS}</sheetData>", ""),
    ],
    ids=["cells", "text", "merged", "far"],
)
def test_a_small_workbook_makes_no_large_sheet(tmp_path, inner, told):
    path = tmp_path / "small.xlsx"
    path.write_bytes(
        of_cells(inner if len(inner) > 9 else f"<sheetData><row>{inner * grid.MOST_TAGS}</row></sheetData>")
    )
    assert path.stat().st_size < 100_000
    if told:
        with pytest.raises(FormatError, match=told):
            grid.read_sheets(path)
    else:  # cells behind the last column that is read make nothing
        assert grid.read_sheets(path)[0].width == 0


def ring(n: int) -> Project:
    steps = tuple(Step(f"S{i}", 10 * i) for i in range(n))
    ways = tuple(Transition((s.name,), (steps[(i + 1) % n].name,), "Go") for i, s in enumerate(steps))
    return Project(signals=(Signal("Go", SignalClass.INPUT),), sequences=(Sequence("Main", "S0", steps, ways),))


def fan(n: int) -> Project:
    steps = (Step("A", 10), Step("B", 20))
    ways = tuple(Transition(("A",), ("B",), f"N = {i}", i + 1) for i in range(n))
    return Project(signals=(Signal("N", SignalClass.INPUT, Type.INT),), sequences=(Sequence("Main", "A", steps, ways),))


def text(n: int) -> Project:
    closing = "".join(f"N := {i};\n" for i in range(n))
    signals = (Signal("N", SignalClass.INTERNAL, Type.INT),)
    return Project(signals=signals, closing=closing, sequences=(Sequence("Main", "A", (Step("A", 10),)),))


@cache
def plant(copies: int) -> Project:
    """A unit with a timer and a rule of its own, and so many copies."""
    q = ring(12).sequences[0]
    q = replace(q, name="A_Main", transitions=tuple(replace(t, condition="A_Go AND A_Wait.Q") for t in q.transitions))
    signals = (Signal("A_Go", SignalClass.INPUT), Signal("A_On", SignalClass.OUTPUT))
    unit = Unit("U", "A_", ("A_Go", "A_On"), ("A_Main",))
    project = Project("Plant", signals=signals, sequences=(q,), instances=(Instance("A_Wait", "TON"),), units=(unit,),
                      opening="A_Wait(IN := A_Go, PT := T#2s);\nA_On := A_Wait.Q;\n")  # fmt: skip
    for i in range(copies):
        project = add_copy(project, "U", f"B{i}_")
    return project


def one_more(copies: int) -> None:
    """Another copy, and whether all there are is as the template."""
    more = add_copy(plant(copies), "U", "C_")
    assert not [d for prefix in more.units[0].copies[:10] for d in deviations(more, more.units[0], prefix)]
    assert findings(more)


def opened(project: Project) -> None:
    """All that opening a file takes."""
    again = spoke.loads(spoke.dumps(project))
    link(again)
    findings(again)


def generated(style: str, n: int) -> None:
    """Our own text, written and read again."""
    assert len(parse_iec(write_code(ring(n), style)).sequences[0].steps) == n


def brief(lines: int) -> None:
    assert parse_brief("A word or two. And more of them.\n\n" * lines, Project(), lambda _: "order")


def states(form: str, n: int) -> None:
    """A program written by hand, in the words of its author, as a sequence."""
    to = ("State := 0;" if i == n - 1 else f"State := {i + 1};" for i in range(n))
    ways = [f"IF In THEN {way} END_IF; Out := {'TRUE' if i % 2 else 'FALSE'};" for i, way in enumerate(to)]
    two = "CASE State OF\n0: IF In THEN State := 1; END_IF;\n1: IF NOT In THEN State := 0; END_IF;\nEND_CASE;\n"
    body = {
        "states": "CASE State OF\n" + "".join(f"{i}: {way}\n" for i, way in enumerate(ways)) + "END_CASE;\n",
        "chain": "".join(f"{'ELS' * bool(i)}IF State = {i} THEN {way}\n" for i, way in enumerate(ways)) + "END_IF;\n",
        "choices": "CASE N OF\n" + "".join(f"{i}: Out := TRUE;\n" for i in range(n)) + f"END_CASE;\n{two}",
        "ELSIF": "IF N < 0 THEN Out := TRUE;\n"
        + "".join(f"ELSIF N = {i} THEN Out := FALSE;\n" for i in range(n))
        + f"END_IF;\n{two}",
    }[form]
    head = "PROGRAM P VAR_INPUT In : BOOL; N : INT; END_VAR VAR_OUTPUT Out : BOOL; END_VAR VAR State : INT; END_VAR\n"
    assert len(parse_iec(f"{head}{body}END_PROGRAM\n").sequences[0].steps) in (2, n)


@pytest.mark.quiet
@pytest.mark.parametrize(
    ("act", "n"),
    [
        *((partial(states, form), 300) for form in ("states", "chain", "choices", "ELSIF")),
        *((partial(generated, style), 400) for style in ("plain", "case", "flags")),
        (lambda n: opened(ring(n)), 1500),
        (lambda n: opened(fan(n)), 1500),
        (lambda n: opened(text(n)), 4000),
        (brief, 4000),
        (one_more, 10),
    ],
    ids=[
        "states",
        "chain",
        "choices",
        "ELSIF",
        "plain",
        "case",
        "flags",
        "steps",
        "ways",
        "statements",
        "brief",
        "copies",
    ],
)
def test_four_times_the_size_takes_about_four_times_as_long(act: Callable[[int], None], n: int):
    """Sixteen times would be the square. Measured again before it says no."""
    if act is one_more:  # the plants are there before it
        plant(n), plant(4 * n)
    for _ in range(4):
        spans = []
        for size in (n, 4 * n):
            begin = time.perf_counter()
            act(size)
            spans.append(time.perf_counter() - begin)
        if spans[1] < 8 * spans[0]:
            return
    assert spans[1] < 8 * spans[0]


def test_the_limits_in_the_documentation_are_those_that_hold():
    said = (Path(__file__).parent.parent.parent / "docs" / "formats.md").read_text()
    for limit in (
        spoke.LARGEST_BYTES,
        LARGEST_TEXT,
        grid.LARGEST_UNPACKED,
        grid.MOST_ROWS,
        grid.MOST_COLUMNS,
        grid.MOST_TAGS,
        grid.MOST_MERGED,
        grid.LONGEST_CELL,
    ):
        assert f"{limit:,}" in said
