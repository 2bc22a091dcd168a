"""Recipes: taken by scenarios and commands, edited, renamed, checked, kept in the file."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.language.rename import rename_signal
from spokeshave.language.rename_declared import rename_column, rename_table
from spokeshave.model import recipe_edits as edits
from spokeshave.model.edits import EditError
from spokeshave.model.project import (
    Action,
    Column,
    Project,
    Qualifier,
    Recipe,
    Scenario,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Table,
    Transition,
    Type,
)
from spokeshave.model.recipes import by_the_file, recipe_of, taken
from spokeshave.verify.check import findings
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.find import find_everywhere
from spokeshave.verify.keep import keep
from spokeshave.verify.recipe_chooser import choose_by, choosers
from spokeshave.verify.recipe_table import recipe_table
from spokeshave.verify.scenarios import run_scenario
from spokeshave.verify.standing import proof_of, since
from spokeshave.versions.readable import readable

SETTING = SignalClass.SETTING


def dipper() -> Project:
    """A frame that goes down as often as its table has rows with a time, and stays as long as they say."""
    project = Project(
        "Dipper",
        signals=(
            Signal("Go", SignalClass.INPUT),
            Signal("Lower", SignalClass.OUTPUT),
            Signal("DipTime", SETTING, Type.TIME, initial=2000),
            Signal("Wax", SETTING, Type.REAL, initial=70.0, unit="°C"),
        ),
        tables=(Table("Dips", SETTING, (Column("Lasts", Type.TIME), Column("On")), ((1000, True), (2000, False)), row_type="Dip"),),
        sequences=(
            Sequence(
                "Main", "Wait",
                (Step("Wait", 10), Step("Down", 20, (Action(Qualifier.N, "Lower"),)), Step("Drip", 30)),
                (Transition(("Wait",), ("Down",), "Go"), Transition(("Down",), ("Drip",), "Down.T >= DipTime"),
                 Transition(("Drip",), ("Wait",), "Drip.T >= Dips[2].Lasts OR Wax < 0.0")),
            ),
        ),
    )  # fmt: skip
    for name, values in (("Slim", [("diptime", 900), ("Dips[2].Lasts", 400)]), ("Stout", [("DipTime", 4000)])):
        project = edits.set_values(edits.new_recipe(project, name), name, values)
    return project


def lasting(project: Project, rows: str, down: str) -> list[str]:
    """What fails where `Down` should last as long as it says."""
    text = f"{rows}\nat 0.5 s: set Go to TRUE\nrun for 6 s\nexpect Main.Down lasts at least {down}\nexpect Main.Down lasts at most {down}"
    result = run_scenario(project, Scenario("one", text))
    return [str(p) for p in result.problems] + [v.because for v in result.verdicts if v.outcome is not Outcome.PASS]


def test_a_scenario_takes_a_recipe_at_its_start_in_a_list_and_on_the_way():
    project = dipper()
    assert not lasting(project, "", "2 s")
    assert not lasting(project, 'given recipe "Stout"', "4 s")
    assert not lasting(project, 'at 0.5 s: use recipe "slim"', "0.9 s")
    assert lasting(project, 'at 0.5 s: use recipe "slim"', "2 s")
    both = 'for each R in "Slim", "Stout"\ngiven recipe R\nat 0 s: set Go to TRUE\nrun for 6 s\nexpect Main.Down lasts at most 1 s'
    assert [r.outcome for r in run_scenario(project, Scenario("both", both)).runs] == [Outcome.PASS, Outcome.FAIL]
    (problem,) = run_scenario(project, Scenario("typo", 'given recipe "Slimm"\nrun for 1 s\nexpect no alarms')).problems
    assert (problem.line, problem.message, problem.advice) == (1, "there is no recipe Slimm", "did you mean Slim?")


def test_a_cell_and_a_setting_are_set_in_one_scan_and_are_what_the_file_would_begin_with():
    project = dipper()
    slim = recipe_of(project, "SLIM")
    assert slim is not None
    begun = by_the_file(project, taken(project, slim))
    assert begun.signal("DipTime").start == 900 and begun.tables[0].rows == ((1000, True), (400, False))
    by_hand, by_file = Session(project), Session(begun)
    for setting, value in taken(project, slim):
        by_hand.do("set", setting.name, value)
    for session in (by_hand, by_file):
        session.do("set", "Go", True)
        session.run_for(4000)
    assert by_hand.trace.windows("Main.Drip.X") == by_file.trace.windows("Main.Drip.X") != []
    assert by_hand.trace.windows("Main.Drip.X")[0][1] - by_hand.trace.windows("Main.Drip.X")[0][0] == 40


values = st.dictionaries(st.sampled_from(["DipTime", "Dips[1].Lasts", "Dips[2].Lasts"]), st.integers(0, 9000))


@given(st.lists(values, max_size=4), values)
def test_edits_are_kept_in_the_file_and_taken_back_whole(recipes, more):
    project = dipper()
    for n, wanted in enumerate(recipes):
        project = edits.set_values(edits.new_recipe(project), f"Recipe{n + 1 if n else ''}", wanted.items())
    assert spoke.loads(spoke.dumps(project)) == project
    assert len({r.name for r in project.recipes}) == 2 + len(recipes)
    changed = edits.set_values(project, "Slim", more.items())
    assert dict(recipe_of(changed, "Slim").values) == {"DipTime": 900, "Dips[2].Lasts": 400} | more
    emptied = edits.set_values(changed, "Slim", [(n, None) for n, _ in recipe_of(changed, "Slim").values])
    assert recipe_of(emptied, "Slim").values == ()
    table = recipe_table(changed)
    assert table[0][3:] == [r.name for r in changed.recipes] and len({len(row) for row in table}) == 1


def test_names_follow_and_what_is_wrong_is_told():
    project = replace(dipper(), scenarios=(Scenario("s", 'given recipe "Slim"\nrun for 1 s\nexpect no alarms'),))
    after = rename_column(
        rename_table(rename_signal(project, "DipTime", "Dwell"), "Dips", "Tubs"), "Tubs", "Lasts", "Stays"
    )
    assert dict(after.recipes[0].values) == {"Dwell": 900, "Tubs[2].Stays": 400}
    after = edits.rename_recipe(after, "slim", "Thin")
    assert (
        'given recipe "Thin"' in after.scenarios[0].text
        and run_scenario(after, after.scenarios[0]).outcome is Outcome.PASS
    )
    for wrong in (lambda: edits.rename_recipe(after, "Thin", "stout"), lambda: edits.new_recipe(after, ' "x" '),
                  lambda: edits.set_values(after, "Thin", [("Go", True)]), lambda: edits.remove_recipe(after, "Slim")):  # fmt: skip
        with pytest.raises(EditError):
            wrong()
    bad = replace(
        project,
        recipes=(
            *project.recipes,
            Recipe("Odd", (("DipTim", 1), ("Go", True), ("Wax", True))),
            Recipe("Same", (("DipTime", 4000),)),
        ),
    )
    found = [(d.code, d.place.item, d.message) for d in findings(bad) if d.code.startswith("recipe")]
    assert [(code, item) for code, item, _ in found] == [("recipe-no-setting", "Odd")] * 3 + [("recipes-alike", "Same")]
    assert "there is no setting DipTim" in found[0][2] and "an input" in found[1][2] and "True" in found[2][2]
    assert not [d for d in findings(project) if d.code.startswith("recipe")]
    assert {h.place.item for h in find_everywhere(project, "slim")} == {"Slim", "s"}
    assert "  DipTime = T#900ms" in readable(project)


def test_a_verdict_hangs_on_the_recipe_that_its_scenario_takes_and_on_no_other():
    project = replace(dipper(), scenarios=(Scenario("s", 'given recipe "Slim"\nrun for 1 s\nexpect no alarms'),))
    proof = proof_of(run_scenario(project, project.scenarios[0]))
    assert since(proof, edits.set_values(project, "Stout", [("DipTime", 1)])) == ()
    assert since(proof, edits.set_values(project, "Slim", [("DipTime", 1)])) == ("recipe Slim",)


def test_words_of_rows_stay_when_signals_that_are_called_so_get_other_names():
    text = (
        'given recipe "Slim"\ngiven Recipe is 3\nat 2 s: reset\nwhen Reset AND Count = 2: set Press to TRUE\n'
        'on Main.Down, 1 s later: use recipe "Slim"\nexpect count Reset: 2 times\nexpect while Press: Reset\nexpect finally Count = 3'
    )
    number = [Signal(n, SETTING, Type.INT) for n in ("Count", "Recipe")]
    project = replace(
        dipper(),
        signals=(Signal("Reset", SignalClass.INPUT), Signal("Press", SignalClass.INPUT), *number),
        scenarios=(Scenario("s", text),),
    )
    for old, new in (("Reset", "Re1"), ("Press", "Pr1"), ("Count", "Co1"), ("Recipe", "Kind")):
        project = rename_signal(project, old, new)
    assert project.scenarios[0].text == (
        'given recipe "Slim"\ngiven Kind is 3\nat 2 s: reset\nwhen Re1 AND Co1 = 2: set Pr1 to TRUE\n'
        'on Main.Down, 1 s later: use recipe "Slim"\nexpect count Re1: 2 times\nexpect while Pr1: Re1\nexpect finally Co1 = 3'
    )


def test_cells_stand_in_rows_and_what_was_done_on_the_bench_is_kept_with_them():
    project = dipper()
    assert not lasting(replace(project, recipes=()), "given DipTime is 3 s\ngiven Dips[ 2 ].Lasts is 1 s", "3 s")
    session = Session(project)
    session.do("set", "Go", True)
    for setting, value in taken(project, recipe_of(project, "Slim")):
        session.do("set", setting.name, value)
    session.run_for(3000)
    kept = keep(project, session)
    (scenario,) = kept.scenarios
    assert "set Dips[2].Lasts to T#400ms" in scenario.text and run_scenario(kept, scenario).outcome is Outcome.PASS
    renamed = rename_column(rename_table(kept, "Dips", "Tubs"), "Tubs", "Lasts", "Stays")
    assert "set Tubs[2].Stays to T#400ms" in renamed.scenarios[0].text
    (problem,) = run_scenario(
        project, Scenario("s", "at 0 s: set Dips[7].Lasts to 1 s\nrun for 1 s\nexpect no alarms")
    ).problems
    assert problem.message == "there is no signal Dips[7].Lasts"


def test_a_recipe_in_a_list_of_a_scenario_follows_its_new_name():
    text = 'for each R in "Slim", "Stout"\ngiven recipe R\n// "Slim" stays here\nat 1 s: use recipe "slim"\nrun for 1 s\nexpect no alarms'
    project = edits.rename_recipe(replace(dipper(), scenarios=(Scenario("s", text),)), "Slim", "Thin")
    assert project.scenarios[0].text == text.replace('"Slim", ', '"Thin", ').replace('"slim"', '"Thin"')


def chosen(*values: int, cls: SignalClass = SignalClass.INPUT, of: Type = Type.INT) -> Project:
    """Recipes of the time alone, and something that could choose among them."""
    project = dipper()
    recipes = tuple(Recipe(f"R{v}", (("DipTime", v),)) for v in values)
    return replace(project, recipes=recipes, scenarios=(), signals=(*project.signals, Signal("Kind", cls, of)))


@given(st.lists(st.integers(10, 90), min_size=2, max_size=5), st.integers(-2, 8))
def test_recipes_that_an_input_chooses_are_rows_of_a_table(values, kind):
    made = choose_by(chosen(*(10 * v for v in values)), "Kind")
    assert not link_problems(made) and not made.recipes and made.signal("DipTime").cls is SignalClass.INTERNAL
    assert list(made.table("Products").rows) == [(10 * v,) for v in values]
    session = Session(made)
    session.do("set", "Kind", kind)
    session.do("set", "Go", True)
    session.run_for(2000)
    wanted = 10 * values[min(max(kind, 1), len(values)) - 1]
    ((a, b),) = session.trace.windows("Main.Down.X")[:1]
    assert (b - a) * made.period_ms == wanted


def test_what_cannot_choose_or_cannot_be_chosen_is_told():
    two = chosen(500, 800, of=Type.BOOL)
    session = Session(choose_by(two, "Kind"))
    session.do("set", "Kind", True)
    session.run_for(100)
    assert session.situation.v[session.program.slots["diptime"]] == 800 and choosers(two) == ["Go", "Kind"]
    three = chosen(500, 600, 700, of=Type.BOOL)
    window = replace(
        two,
        sequences=(
            replace(two.sequences[0], steps=tuple(replace(s, longest="DipTime") for s in two.sequences[0].steps)),
        ),
    )
    used = replace(two, scenarios=(Scenario("Long", 'given recipe "R800"\nrun for 1 s'),))
    cells = replace(two, recipes=(Recipe("A", (("Dips[1].On", True),)), Recipe("B", (("Dips[1].On", False),))))
    one = replace(two, recipes=two.recipes[:1])
    for project, name, says in (
        (three, "Kind", "a whole number"), (one, "Kind", "make two"), (two, "Wax", "cannot choose"), (two, "Nobody", "cannot choose"),
        (window, "Kind", "could not run: .*DipTime"), (used, "Kind", "scenario Long could not run"), (cells, "Kind", "cell of a table"),
    ):  # fmt: skip
        with pytest.raises(EditError, match=says):
            choose_by(project, name)
