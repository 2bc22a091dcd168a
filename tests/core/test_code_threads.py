"""Plain code of charts with several threads: states, ways and marks edited in the text come back into the model."""

from __future__ import annotations

import random
import re
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.formats.code.read import read_code
from spokeshave.formats.code.write import generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.model.diagnostics import errors
from spokeshave.model.project import Action, Project, Qualifier, Step, Transition
from tests.core.projects import build_structured
from tests.core.test_generated_code import hundreds

REST = "        IF RoastT >= T#4s THEN Roast := 100; END_IF;"
LIGHT = "IF BeanTemp >= LightTemp THEN Roast := 100; END_IF;"
BURNER = "(Roast = 40 OR Roast = 70 OR Roast = 80)"
VENT = """        IF RoastT >= T#4s THEN Roast := 95; END_IF;
      95: (* Vent: lets smoke go *)
        IF RoastT >= T#1s THEN Roast := 100; END_IF;"""
VENTED = [
    "Vent: step 95 Vent is new",
    "Rest: 90 leads to 95 if Rest.T >= T#4s",
    "Vent: 95 leads to 100 if Vent.T >= T#1s",
]
HELD = "IF AirRunsHeld.Q THEN Roast2 := 35; END_IF;"
CALM = """IF AirRunsHeld.Q THEN Roast2 := 33; END_IF;
      33: (* Calm *)
        IF Roast2T >= T#1s THEN Roast2 := 35; END_IF;"""


def edited(project: Project, *pairs: tuple[str, str]) -> tuple[Project, list[str]]:
    text = generate(project, "plain").text
    for old, new in pairs:
        assert text.count(old) == 1, old
        text = text.replace(old, new)
    after, changes = read_code(text, 0, len(text), project, "plain")
    return after, [f"{c.of[3]}.{c.of[2]}: {c.new}" for c in changes]


@pytest.mark.parametrize(
    ("pairs", "said"),
    [
        ([(REST, VENT)], VENTED),
        ([(LIGHT, LIGHT.replace("100", "90"))], ["RoastLight: 70 leads to 90 if BeanTemp >= LightTemp"]),
        ([(REST, REST.replace(" END_IF", "\n        ELSIF NOT AirRuns THEN Roast := 130;\n        END_IF"))],
         ["Rest: 90 leads to 130 if NOT AirRuns"]),
        ([(REST, REST.replace(" END_IF", "\n        ELSE Roast := 130;\n        END_IF"))], ["Rest: 90 leads to 130 if TRUE"]),
        ([(HELD, CALM)],
         ["Calm: step 33 Calm is new", "Purge: 30 leads to 33 if HELD(AirRuns, T#1s)", "Calm: 33 leads to 35 if Calm.T >= T#1s"]),
        ([("IF BeanTemp >= DarkTemp THEN Roast := 90; END_IF;", "IF BeanTemp >= DarkTemp THEN Roast := 100; END_IF;"),
          ("      90: (* Rest: develops without flame *)\n" + REST + "\n", "")],
         ["Rest: is gone", "RoastDark: 80 leads to 100 if BeanTemp >= DarkTemp"]),
        ([(BURNER, BURNER.replace(")", " OR Roast = 90)"))], ["Rest: Burner also in 90"]),
        ([(BURNER, BURNER.replace(" OR Roast = 70", ""))], ["RoastLight: Burner no longer in 70"]),
        ([("Roast_Acts AND Roast = 110;", "Roast_Acts AND (Roast = 110 OR Roast = 120);")], ["CloseDoor: DropDoor also in 120"]),
        ([(REST, VENT), (BURNER, BURNER.replace(")", " OR Roast = 95)"))],
         [*VENTED, "Vent: Burner also in 95"]),
        ([("IF DoorShut AND Batches + 1 < BatchGoal THEN Roast := 40;\n        ELSIF DoorShut AND Batches + 1 >= BatchGoal THEN Roast := 130;",
           "IF DoorShut AND Batches + 1 >= BatchGoal THEN Roast := 130;\n        ELSIF DoorShut AND Batches + 1 < BatchGoal THEN Roast := 40;")],
         ["CloseDoor: the ways out of 120 are in another order"]),
        ([(LIGHT, "IF BeanTemp >= LightTemp THEN Roast := 20; Roast2 := 30; END_IF;")],
         ["RoastLight: 70 leads to 20 + 30 if BeanTemp >= LightTemp"]),
        ([("  DropDoor_Asked := Roast_Acts AND Roast = 110; (* Drop *)\n", "")], ["Drop: DropDoor no longer in 110"]),
    ],
)  # fmt: skip
def test_states_ways_and_marks_of_a_chart_with_threads_are_edited_in_its_code(roastery, pairs, said):
    after, told = edited(roastery, *pairs)
    assert told == [f"Roast.{x}" for x in said] and not errors(link_problems(after))
    rest = replace(after, sequences=roastery.sequences)
    assert rest == roastery, "what the text does not speak of stays"
    again = generate(after, "plain").text
    assert read_code(again, 0, len(again), after, "plain") == (after, [])


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        (LIGHT, LIGHT.replace("100", "77"), "line 71:9: 77 is no state; write a label 77"),
        (LIGHT, "IF BeanTemp >= LightTemp THEN Roast := 20; Roast2 := 77; END_IF;", "line 71:9: 77 is no state; write a label 77"),
        (LIGHT, "IF BeanTemp >= LightTemp THEN Roast := 90 END_IF;", "line 71:48: a semicolon is missing"),
        (LIGHT, "IF BeanTemp >= LightTemp Roast := 90; END_IF;", "line 71:9: this IF is not closed"),
        (LIGHT, "Batches := 3; " + LIGHT, "line 71:9: Batches stands in a state of its own"),
        (LIGHT, LIGHT + " Gate := TRUE;", "this stands behind the ways out of the state"),
        (LIGHT, "IF BeanTemp >= LightTemp THEN Roast := 90; Go(1); END_IF;", "a way out only says which state comes next"),
        (REST, VENT.replace("Vent", "Charge"), "there is a Charge already"),
        (REST, VENT.replace("95", "35"), "35 is a state of another thread"),
        (REST, VENT.replace("95:", "80:"), "the state 80 has two labels"),
        (BURNER, BURNER.replace(")", " OR AirRuns)"), "roast_acts and airruns is no comparison with a state"),
        (BURNER, BURNER.replace("70", "75"), "roast_acts and roast = 75 is no comparison"),
        ("      90: (* Rest: develops without flame *)\n" + REST + "\n", "", "line 73:9: 90 is no state; write a label 90"),
        ("IF Roast2Was = 35 AND DrumRuns THEN Roast := 40; Roast2 := -1; END_IF;", ";", "nothing leads to state 40 any more"),
        ("    END_CASE;\n    CASE Roast2Was", "    CASE Roast2Was", ""),
    ],
)  # fmt: skip
def test_what_cannot_be_taken_over_is_told_with_line_and_column(roastery, old, new, told):
    with pytest.raises(FormatError) as error:
        edited(roastery, (old, new))
    assert told in f"{error.value}" and "line " in f"{error.value}"


@hundreds
@given(st.integers(0, 10**9))
def test_a_state_put_between_two_others_in_the_text_is_a_step_between_them(seed):
    """Charts with threads; the state comes into any branch with a plain way out, with a mark where an output is mapped."""
    c = random.Random(seed)
    project = build_structured(seed)
    if errors(link_problems(project)):
        return
    code = generate(project, "plain")
    if all(t.count < 2 for t in code.maker.threads.values()):
        return
    threads = set(code.maker.at.values())
    found = re.finditer(r"^( +)IF (.*) THEN (\w+) := (\d+); END_IF;$", code.text, re.MULTILINE)
    arms = [
        m
        for m in found
        if m[3] in threads and re.search(r"^ +\d+: \(\*[^\n]*\n\Z", code.text[: m.start()], re.MULTILINE)
    ]
    if not arms:
        return
    m = c.choice(arms)
    at, number = m[3], max(s.number for q in project.sequences for s in q.steps) + 5
    pad = m[1][2:]
    fresh = (
        f"{m[1]}IF {m[2]} THEN {at} := {number}; END_IF;\n"
        f"{pad}{number}: (* Fresh *)\n{m[1]}IF A AND NOT B THEN {at} := {m[4]}; END_IF;"
    )
    text = code.text[: m.start()] + fresh + code.text[m.end() :]
    q = project.sequence(next(name for (name, _), own in code.maker.at.items() if own == at))
    label = int(re.findall(r"^ +(\d+):", code.text[: m.start()], re.MULTILINE)[-1])
    source, target = (next(s.name for s in q.steps if s.number == n) for n in (label, int(m[4])))
    after, _ = read_code(text, 0, len(text), project, "plain")
    new = after.sequence(q.name)
    assert sorted(s.name for s in new.steps) == sorted([*(s.name for s in q.steps), "Fresh"])
    assert new.step("Fresh") == Step("Fresh", number)
    old_way = next(
        t for t in q.transitions if t.sources == (source,) and t.targets == (target,) and t not in new.transitions
    )
    wanted = [replace(old_way, targets=("Fresh",)), Transition(("Fresh",), (target,), "A AND NOT B")]
    assert [t for t in new.transitions if t not in q.transitions] in (wanted, wanted[::-1])
    assert [t for t in q.transitions if t not in new.transitions] == [old_way]
    assert replace(after, sequences=project.sequences) == project


def test_the_name_beside_a_state_is_that_of_its_step_in_every_text(roastery):
    text = generate(roastery, "plain").text
    text = text.replace("50: (* Charge: beans", "50: (* Load: beans").replace("RoastT >= T#4s", "RoastT >= T#5s")
    after, changes = read_code(text, 0, len(text), roastery, "plain")
    assert [c.new for c in changes] == ["Rest.T >= T#5s", "step 50 is called Load"]
    assert "Load" in "".join(s.text for s in after.scenarios) and "Charge." not in "".join(
        s.text for s in after.scenarios
    )
    with pytest.raises(FormatError, match="is already the name of"):
        edited(roastery, ("50: (* Charge: beans", "50: (* Drop: beans"))
    with pytest.raises(FormatError, match=r"line \d+:\d+: 'IF'|word of the language|keyword"):
        edited(roastery, ("50: (* Charge: beans", "50: (* IF: beans"))


THREADS = """PROGRAM Twin
  VAR_INPUT Go, L, R : BOOL; END_VAR
  VAR_OUTPUT Left, Right, Lamp : BOOL; END_VAR
  INITIAL_STEP Rest: END_STEP
  STEP Pull: Left(N); END_STEP
  STEP Turn: Right(N); END_STEP
  STEP Away: END_STEP
  TRANSITION FROM Rest TO (Pull, Turn) := Go; END_TRANSITION
  TRANSITION FROM Turn TO Away := R; END_TRANSITION
  TRANSITION FROM (Pull, Away) TO Rest := L; END_TRANSITION
END_PROGRAM
"""


def test_an_output_that_nothing_acts_on_gets_a_line_of_its_own():
    project = parse_iec(THREADS)
    text = generate(project, "plain").text
    line = next(x for x in text.splitlines() if x.strip().startswith("Right :="))
    at = re.search(r":= (\w+) =", line)[1]
    number = project.sequences[0].step("Away").number
    text = text.replace(line, f"{line}\n  Lamp := {at} = {number};")
    after, said = read_code(text, 0, len(text), project, "plain")
    assert (
        after.sequences[0].step("Away").actions == (Action(Qualifier.N, "Lamp"),)
        and said[0].new == f"Lamp also in {number}"
    )
