"""Whatever plain code shows is changed in it: threads, branches, trips, holds, interlocks, marks and logic come back into the model."""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.formats.code.agree import first_otherwise
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.read import MOST_READ_OTHERWISE, read_code
from spokeshave.formats.code.tokens import tokens
from spokeshave.formats.code.write import Generated, generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.model import branch_edits, flow_edits
from spokeshave.model.diagnostics import errors
from spokeshave.model.edits import EditError
from spokeshave.model.project import Action, Interlock, OpposedPair, Project, Qualifier, SignalClass, Trip, Type
from spokeshave.model.qualifiers import ACTING
from spokeshave.verify.equivalence import runs_of
from tests.core.projects import build_structured
from tests.core.test_generated_code import hundreds
from tests.core.test_large import long_table


def edited(c: random.Random, p: Project) -> Project:
    """A file with one edit of what plain code shows."""
    q = c.choice(p.sequences)
    s = c.choice(q.steps)
    outputs = [x.name for x in p.signals if x.cls is SignalClass.OUTPUT and x.type is Type.BOOL]
    a, b = c.sample(outputs, 2)

    def with_sequence(**changes: object) -> Project:
        new = replace(q, **changes)
        return replace(p, sequences=tuple(new if x is q else x for x in p.sequences))

    def with_mark(qualifier: Qualifier) -> Project:
        mark = Action(qualifier, a, "T#30ms" if qualifier.timed else "")
        actions = (*(x for x in s.actions if x.target != a), mark)
        return with_sequence(steps=tuple(replace(x, actions=actions) if x is s else x for x in q.steps))

    condition = c.choice(("A OR B", "NOT A", f"{s.name}.T >= T#30ms", "A AND RISING(B)"))
    halt = Trip("Halt", len(p.trips) + 1, "C", latching=True)
    edits: list[Callable[[], Project]] = [
        lambda: branch_edits.add_simultaneous(p, q.name, s.name),
        lambda: branch_edits.add_alternative(p, q.name, s.name),
        lambda: branch_edits.delete_branch(p, q.name, s.name),
        lambda: branch_edits.add_transition(p, q.name, s.name, c.choice(q.steps).name, "A AND B"),
        lambda: flow_edits.insert_step(p, q.name, s.name),
        lambda: flow_edits.delete_step(p, q.name, s.name),
        lambda: flow_edits.change_transition(p, q.name, c.randrange(len(q.transitions)), condition=condition),
        lambda: replace(p, interlocks=(*p.interlocks, Interlock(a, "A OR C"))),
        lambda: replace(p, interlocks=p.interlocks[1:]),
        lambda: replace(p, opposed=() if p.opposed else (OpposedPair(a, b, 0),)),
        lambda: replace(p, opposed=tuple(replace(o, dead_ms=o.dead_ms + 50) for o in p.opposed)),
        lambda: replace(p, trips=(*p.trips, halt), reset="B"),
        lambda: with_sequence(hold_when="" if q.hold_when else "C AND A"),
        lambda: with_mark(c.choice(ACTING)),
        lambda: with_sequence(steps=tuple(replace(x, actions=x.actions[1:]) if x is s else x for x in q.steps)),
        lambda: replace(p, opening=f"{p.opening}\nZ := A;".strip()),
        lambda: replace(p, closing="" if p.closing else "Z := A OR B;"),
    ]
    return c.choice(edits)()


def code_of(project: Project) -> Generated | None:
    """Plain code in one text, None where there is none."""
    try:
        return None if errors(link_problems(project)) else generate(project, "plain", apart=False)
    except FormatError:
        return None


@hundreds
@given(st.integers(0, 10**9))
def test_the_code_of_an_edited_chart_edits_the_chart_that_it_is_read_against(seed):
    """What is read is what was edited: its code says the same, and what the edit did not touch is as it was."""
    c = random.Random(seed)
    before = replace(build_structured(seed), comment="made for this")
    was = code_of(before)
    try:
        wanted = code_of(edited(c, before))
    except EditError:
        return
    if was is None or wanted is None or was.text == wanted.text:
        return
    after, said = read_code(wanted.text, 0, len(wanted.text), before, "plain")
    assert first_otherwise(wanted.text, generate(after, "plain")) is None and said
    for q in before.sequences:
        mine, edits = after.sequence(q.name), wanted.project.sequence(q.name)
        same = [s for s in q.steps if s in edits.steps]
        assert all(mine.step(s.name) == s for s in same)
    assert (after.comment, after.signals, after.period_ms) == (before.comment, before.signals, before.period_ms)


SWAPS = {"AND": "OR", "OR": "AND", "<": ">=", ">=": "<", "=": "<>", "<>": "=", "TRUE": "FALSE", "FALSE": "TRUE"}


def damaged(c: random.Random, text: str) -> str:
    """A text with one word exchanged, or two lines."""
    if c.random() < 0.2:
        lines = text.split("\n")
        n = c.randrange(len(lines) - 2)
        lines[n : n + 2] = lines[n + 1], lines[n]
        return "\n".join(lines)
    words = tokens(text)
    kind = c.choice((str.isdigit, str.isidentifier, lambda w: w.upper() in SWAPS))
    found = [t for t in words if kind(t.word)]
    t = c.choice(found)
    new = SWAPS.get(t.word.upper()) or c.choice(found).word
    return f"{text[: t.start]}{new}{text[t.end :]}"


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10**9))
def test_a_text_that_is_taken_over_runs_as_what_came_of_it(seed):
    """However it was damaged: it is refused, or model and text do the same under hands that move at random."""
    c = random.Random(seed)
    code = code_of(build_structured(seed))
    if code is None:
        return
    for _ in range(4):
        text = damaged(c, code.text)
        try:
            after, _ = read_code(text, 0, len(text), code.project, "plain", declared=frozenset())
        except FormatError:
            continue
        as_text = as_project(replace(code, pieces=(text,)))
        if errors(link_problems(after)) or errors(link_problems(as_text)):
            continue
        (run,) = runs_of(replace(after, scenarios=()), 1)
        mine, theirs = (Session(run.machine(p), run.stimuli, every_scan=True) for p in (after, as_text))
        for session in (mine, theirs):
            session.run_for(2_000)
        for s in after.signals:
            scans, other = (x.trace.changes(x.trace.column(s.name)) for x in (mine, theirs))
            assert [list(x) for x in scans] == [list(x) for x in other], s.name


DIP = """PROGRAM Dip
  VAR_INPUT Go, AtTop, AtLeft, Stop : BOOL; END_VAR
  VAR_OUTPUT Up, Down, Lamp : BOOL; END_VAR
  INITIAL_STEP Idle: END_STEP
  STEP Rise: Up(N); END_STEP
  STEP Fall: Down(N); END_STEP
  TRANSITION FROM Idle TO Rise := Go; END_TRANSITION
  TRANSITION FROM Rise TO Fall := AtTop AND Rise.T >= T#1s; END_TRANSITION
  TRANSITION FROM Fall TO Idle := AtLeft; END_TRANSITION
END_PROGRAM
"""
OPENS = ("IF Go THEN Dip := 20; END_IF;", "IF Go THEN Dip := 20; Dip2 := 40; END_IF;")
CLOSES = (
    "IF AtTop AND DipT >= T#1s THEN Dip := 30; END_IF;",
    "IF Dip2Was = 50 AND AtTop AND DipT >= T#1s THEN Dip := 30; Dip2 := -1; END_IF;",
)
BESIDE = ("    END_CASE;\n", """    END_CASE;
    CASE Dip2Was OF
      40: (* Shift: beside the rise *)
        IF AtLeft THEN Dip2 := 50; END_IF;
      50: (* Shifted *) ;
    END_CASE;
""")  # fmt: skip
UP = "  Up := Dip = 20; (* Rise *)\n"


def typed(*pairs: tuple[str, str]) -> tuple[Project, list[str]]:
    """What comes of the code of a chart of one thread with texts exchanged, as a person would type them, without helpers."""
    project = parse_iec(DIP)
    text = generate(project, "plain").text
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new)
    after, changes = read_code(text, 0, len(text), project, "plain")
    assert not errors(link_problems(after))
    return after, [c.new for c in changes]


@pytest.mark.parametrize(
    ("pairs", "said"),
    [
        ([OPENS, CLOSES, BESIDE, (UP, f"  Lamp := Dip2 = 40;\n{UP}")],
         ["step 40 Shift is new", "step 50 Shifted is new", "10 leads to 20 + 40 if Go",
          "20 + 50 leads to 30 if AtTop AND Rise.T >= T#1s", "40 leads to 50 if AtLeft", "Lamp also in 40"]),
        ([("20: (*", "25: (*"), ("Dip := 20", "Dip := 25"), ("Dip = 20", "Dip = 25")], ["has the number 25"]),
        ([(UP, f"{UP}  IF Up AND AtTop THEN Up := FALSE; END_IF;\n")], ["interlock of Up (NOT AtTop) is new"]),
        ([(UP, f"{UP}  IF Up AND NOT AtLeft THEN Up := FALSE; END_IF;\n")], ["interlock of Up (AtLeft) is new"]),
        ([("Up := Dip = 20", "Up := Dip = 30"), ("Down := Dip = 30", "Down := Dip = 20")],
         ["Up no longer in 20", "Down also in 20", "Down no longer in 30", "Up also in 30"]),
        ([(UP, f"  IF Dip = 20 AND Dip <> DipLast THEN Lamp := TRUE; END_IF;\n  IF Dip = 10 THEN Lamp := FALSE; END_IF;\n{UP}")],
         ["Lamp (R) also in 10", "Lamp (S) also in 20"]),
        ([(UP, f"  Lamp := Dip = 20 AND DipT >= T#2s;\n{UP}")], ["Lamp (D T#2s) also in 20"]),
        ([(UP, f"  Lamp := Dip = 20 AND Dip <> DipLast;\n{UP}")], ["Lamp (P1) also in 20"]),
        ([("IF AtLeft THEN Dip := 10; END_IF;",
           "IF AtLeft THEN Dip := 10;\n ELSIF Stop THEN Dip := 40;\n END_IF;\n 40: (* Halted *) IF Go THEN Dip := 10; END_IF;")],
         ["step 40 Halted is new", "30 leads to 40 if Stop", "40 leads to 10 if Go"]),
        ([("IF Go THEN", "IF Go AND NOT Stop THEN")], ["Go AND NOT Stop"]),
        ([("20: (* Rise *)", "20: (* Climb *)"), ("Up := Dip = 20", "Up := Dip = 20 OR Dip = 30")],
         ["step Rise is called Climb now", "Up also in 30"]),
        ([("  IF NOT FirstScan THEN\n", "  Rest(IN := Dip = 30, PT := T#2s);\n  IF NOT FirstScan THEN\n"), ("IF AtLeft THEN", "IF Rest.Q THEN")],
         ["30 leads to 10 if HELD(Dip.Fall.X, T#2s)"]),
    ],
)  # fmt: skip
def test_what_a_person_types_becomes_what_a_person_would_draw(pairs, said):
    _, told = typed(*pairs)
    assert told == said


@pytest.mark.parametrize(
    ("pairs", "told"),
    [
        ([OPENS, CLOSES, (BESIDE[0], BESIDE[1].replace("Dip2Was OF", "Dip2 OF"))], "line 11:5: no chart says CASE Dip2 OF 40"),
        ([OPENS], "line 5:31: Dip2 has no states; write CASE Dip2Was OF"),
        ([OPENS, (CLOSES[0], CLOSES[1].replace(" Dip2 := -1;", "")), BESIDE], "line 7:9: something is missing here; write Dip2 := -1"),
        ([(UP, f"{UP}  DipT := T#5s;\n")], "line 14:3: no chart says DipT := T#5s here"),
        ([("  IF NOT FirstScan THEN\n    CASE", "  IF NOT FirstScan AND NOT Stop THEN\n    CASE")], "line 2:3: no chart says IF NOT"),
    ],
)  # fmt: skip
def test_what_no_chart_says_is_told_where_it_stands(pairs, told):
    with pytest.raises(FormatError) as error:
        typed(*pairs)
    assert told in str(error.value)


def test_a_large_chart_is_edited_in_its_code_and_what_is_no_chart_is_told():
    """More steps than are read as a person's program: one put between two others, and a text that no chart says."""
    project = long_table(MOST_READ_OTHERWISE + 100)
    text = generate(project, "plain").text
    way = re.search(r"THEN (\w+) := (\d+); END_IF;\n", text)
    assert way is not None
    fresh = f"THEN {way[1]} := 15; END_IF;\n15: (* Fresh *) IF TRUE THEN {way[1]} := {way[2]}; END_IF;\n"
    edit = text.replace(way[0], fresh, 1)
    after, said = read_code(edit, 0, len(edit), project, "plain")
    assert after.sequences[0].step("Fresh") is not None and len(said) == 3
    wrong = text.replace(way[0], way[0].replace("END_IF;", "END_IF; Q := 1;"), 1)
    with pytest.raises(FormatError, match="no chart says Q := 1 here"):
        read_code(wrong, 0, len(wrong), project, "plain")
