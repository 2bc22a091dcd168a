"""Blocks with states that a program calls: where they stand in the text, and what cannot be written into a program."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

import pytest

from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_states
from spokeshave.formats.iec_routines import read_routine
from spokeshave.formats.states.blocks import Outline
from spokeshave.formats.states.called import write_in
from spokeshave.formats.states.choices import Choices
from spokeshave.formats.states.foreign import made_fit
from spokeshave.language.tokens import Tokens
from spokeshave.model.project import Project, SignalClass
from spokeshave.reading import read_text

HERE = Path(__file__).parent / "state_programs"

BLOCK = """FUNCTION_BLOCK Slide
VAR_INPUT Go, There : BOOL; END_VAR
VAR_OUTPUT Out : BOOL; END_VAR
VAR n : INT; END_VAR
CASE n OF
  0: IF Go THEN n := 1; END_IF;
  1: IF There THEN n := 0; END_IF;
END_CASE;
Out := n = 1;
END_FUNCTION_BLOCK
"""


def program(body: str, block: str = BLOCK) -> str:
    declared = "VAR_INPUT A, B : BOOL; i : INT; END_VAR VAR_OUTPUT Q : BOOL; END_VAR VAR Mine : Slide; END_VAR"
    return f"{block}PROGRAM P\n{declared}\n{body}\nEND_PROGRAM\n"


@pytest.mark.parametrize(
    ("body", "line", "message"),
    [
        (
            "Mine(Go := A, There := B);\nMine(Go := B);\nQ := Mine.Out;",
            14,
            "Mine has states and is called in two places",
        ),
        ("WHILE A DO\nMine(Go := A);\nEND_WHILE;", 14, "Mine has states and is called in a loop"),
        ("Q := Mine.Out;", 12, "Mine has states and is called nowhere"),
        ("Mine(Go := A, Gone := B);", 13, "Slide has no Gone"),
    ],
)
def test_what_cannot_stand_in_its_program_is_told_with_its_place(body, line, message):
    with pytest.raises(FormatError, match=message) as told:
        read_text(program(body))
    assert told.value.line == line and told.value.column > 0 and told.value.advice


def test_a_return_from_within_is_refused_and_one_that_ends_an_if_leaves_out_the_rest():
    inner = BLOCK.replace("Out := n = 1;", "IF Go THEN IF There THEN RETURN; END_IF; END_IF;\nOut := n = 1;")
    with pytest.raises(FormatError, match="this RETURN leaves a block with states from within") as told:
        read_text(program("Mine(Go := A, There := B);\nQ := Mine.Out;", inner))
    assert told.value.line == 9
    outer = BLOCK.replace("CASE n", "IF NOT There AND Go THEN RETURN; END_IF;\nCASE n")
    found = read_text(program("Mine(Go := A, There := B);\nQ := Mine.Out;", outer))
    assert "runs beside the text" in found.shown, "and what is left out was run beside the text as it stands"


def test_a_block_in_itself_is_refused_with_its_place():
    inside = BLOCK.replace("n : INT;", "n : INT; Other : Slide;").replace("CASE n OF", "Other(Go := Go);\nCASE n OF")
    with pytest.raises(FormatError, match="Slide has an instance of itself inside it") as told:
        read_text(program("Mine(Go := A, There := B);\nQ := Mine.Out;", inside))
    assert told.value.line == 4


def test_faults_in_a_block_stand_at_its_own_lines():
    text = program("Mine(Go := A, There := B);\nQ := Mine.Out;").replace(
        "1: IF There THEN n := 0", "1: IF There THEN n := 7"
    )
    with pytest.raises(FormatError, match="there is no state 7") as told:
        read_text(text)
    assert (told.value.line, told.value.column) == (7, 25)


def test_each_word_knows_where_it_stood():
    """A step is found at the label in the block, a variable at its declaration there."""
    text = (HERE / "61-block-in-block.st").read_text()
    tokens = Tokens(text, program=True)
    written = write_in(tokens)
    assert written is not None and written.states == {"s1": "S1.n", "mover": "S1.Mover.n"}
    words, lines = written.tokens, text.split("\n")
    stood = [words.position(words.starts[i]) for i, kind in enumerate(words.kinds) if kind == "INT"]
    numbers = [words.word(i) for i, kind in enumerate(words.kinds) if kind == "INT"]
    assert len(numbers) == 18
    for (line, column), number in zip(stood, numbers):
        assert lines[line - 1][column - 1 :].startswith(number)
    found = read_text(text)
    assert {n.line for n in found.notes if n.text.startswith("state 20 is")} == {25}


OWN = "CASE Mode OF 0: IF A THEN Mode := 1; END_IF; 1: IF B THEN Mode := 0; END_IF; END_CASE;\n"


def with_states_of_its_own(block: str = BLOCK) -> str:
    text = program(f"{OWN}Mine(Go := A, There := B);\nQ := Mine.Out;", block)
    return text.replace("VAR Mine", "VAR Mode : INT; Mine")


def test_a_program_with_states_of_its_own_keeps_its_blocks():
    project = read_text(with_states_of_its_own()).project
    assert [q.name for q in project.sequences] == ["P"] and [r.name for r in project.routines] == ["Slide"]


def test_enumerations_are_known_in_blocks_that_stay():
    block = BLOCK.replace("n : INT", "n : Way := On")
    for number, name in (("0", "Off"), ("1", "On")):
        block = block.replace(f"{number}: IF", f"{name}: IF").replace(f"n := {number};", f"n := {name};")
    text = "TYPE Way : (Off, On); END_TYPE\n" + with_states_of_its_own(block.replace("n = 1", "n = On"))
    (routine,) = read_text(text).project.routines
    known = {m.name: (m.role, m.initial) for m in routine.members if m.name in ("n", "Off", "On")}
    assert known == {"n": ("variable", 1), "Off": ("constant", 0), "On": ("constant", 1)}


def test_a_variable_in_and_out_is_refused_where_the_block_stays():
    with pytest.raises(FormatError, match="VAR_IN_OUT is not supported"):
        read_routine("FUNCTION_BLOCK B\nVAR_IN_OUT x : BOOL; END_VAR\nx := NOT x;\nEND_FUNCTION_BLOCK")
    assert parse_states((HERE / "62-block-with-return.st").read_text()).reader.refused is None


def one_program(text: str) -> bool:
    """Whether a text is one program that says what its inputs are, and nothing else."""
    apart = re.search(r"\b(?:VAR_GLOBAL|FUNCTION_BLOCK|TYPE|GVL)\b", text)
    return len(re.findall(r"\bPROGRAM\b", text)) == 1 and "VAR_INPUT" in text and apart is None


def in_a_block(text: str) -> str:
    """The only program of a text as a block, and a program that calls it with variables of the same names."""
    outline = Outline(Tokens(text, program=True))
    (body,) = (b for b in outline.bodies if b.word == "PROGRAM")
    declared, calls, out = [], [], []
    for d in body.declared:
        if d.role not in ("VAR_INPUT", "VAR_OUTPUT"):
            continue
        for i in d.names:
            name = outline.word(i)
            declared.append(f"{d.role} {name} : {d.kind_text}{f' := {d.initial}' * bool(d.initial)}; END_VAR")
            if d.role == "VAR_INPUT":
                calls.append(f"{name} := {name}")
            else:
                out.append(f"{name} := It.{name};")
    block = re.sub(r"\bEND_PROGRAM\b", "END_FUNCTION_BLOCK", re.sub(r"\bPROGRAM\b", "FUNCTION_BLOCK", text, count=1))
    lines = [
        block,
        "PROGRAM Around",
        *declared,
        f"VAR It : {body.name}; END_VAR",
        f"It({', '.join(calls)});",
        *out,
        "END_PROGRAM",
    ]
    return "\n".join(lines)


def looked_at(project: Project) -> list[object]:
    """The charts of a machine file but for the name of a sequence that is alone."""
    alone = len(project.sequences) == 1
    texts = [str((q.steps, q.transitions, q.bodies, q.hold_when)) for q in project.sequences]
    names = [q.name for q in project.sequences]
    logic = [project.opening, project.closing, str([replace(t, go_to=()) for t in project.trips])]
    return [re.sub(rf"\b{names[0]}\.", "It.", x) if alone else x for x in (*texts, *logic)]


@pytest.mark.parametrize(
    "file",
    [f for f in sorted(HERE.glob("*.st")) if one_program(f.read_text()) and "flags" not in f.stem],
    ids=lambda f: f.stem,
)
def test_a_program_that_is_moved_into_a_block_becomes_the_same_chart(file):
    text = made_fit(file.read_text())[0]
    mine = parse_states(text).project(Choices())
    there = parse_states(in_a_block(text)).project(Choices())
    assert looked_at(there) == looked_at(mine), file.stem
    assert {s.name for s in there.signals if s.cls is not SignalClass.INTERNAL} == {
        s.name for s in mine.signals if s.cls is not SignalClass.INTERNAL
    }
