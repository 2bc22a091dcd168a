"""Recipes in the desktop: made and typed as a table, taken on the bench, kept from it, given up."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QInputDialog

from spokeshave.desktop.signals.page import PARTS
from spokeshave.model.project import Scenario
from spokeshave.verify.scenarios import run_scenario
from tests.core.test_recipes import chosen, dipper
from tests.desktop.test_alarms_page import made as made
from tests.desktop.test_alarms_page import texts, type_into


def recipes_of(window) -> dict[str, dict[str, object]]:
    return {r.name: dict(r.values) for r in window.document.project.recipes}


def test_recipes_are_made_typed_beside_each_other_renamed_copied_and_deleted(made):
    window = made(replace(dipper(), recipes=()))
    window.show_stage(1)
    window.signals.show_part(PARTS.index("Recipes"))
    panel = window.signals.recipes
    assert panel.empty.isVisible() and not panel.bench.isEnabled()
    QTest.mouseClick(panel.empty.buttons[0], Qt.MouseButton.LeftButton)
    QTest.keyClicks(panel.name, "Slim")
    QTest.keyClick(panel.name, Qt.Key.Key_Return)
    type_into(panel.view, 0, 3, "0.9")
    type_into(panel.view, 5, 3, "x")
    assert recipes_of(window) == {"Slim": {"DipTime": 900, "Dips[2].On": True}}
    type_into(panel.view, 1, 3, "warm")
    assert "Wax" not in recipes_of(window)["Slim"], "no number, no value"
    type_into(panel.view, 1, 2, "71.5")
    assert window.document.project.signal("Wax").initial == 71.5
    panel.copy.click()
    assert panel.chosen == "Slim2" and recipes_of(window)["Slim2"] == recipes_of(window)["Slim"]
    panel.only.click()
    assert [texts(panel, r)[0] for r in range(panel.model.rowCount())] == ["DipTime", "Dips[2].On"]
    type_into(panel.view, 0, 4, "4s")
    panel.view.setCurrentIndex(panel.model.index(1, 4))
    QTest.keyClick(panel.view, Qt.Key.Key_Delete)
    assert recipes_of(window)["Slim2"] == {"DipTime": 4000}
    panel.to_file()
    assert window.document.project.signal("DipTime").initial == 4000
    panel.drop.click()
    assert list(recipes_of(window)) == ["Slim"]
    window.document.undo()
    assert list(recipes_of(window)) == ["Slim", "Slim2"] and panel.model.columnCount() == 5


def test_a_recipe_is_taken_on_the_bench_what_is_typed_stays_through_a_reset_and_is_kept_or_given_up(made):
    window = made(dipper())
    runner = window.runner
    window.show_stage(1)
    window.signals.recipes.choose("Stout")
    window.signals.recipes.bench.click()
    choice = window.bench.bar.recipes
    assert window.stage == 4 and choice.recipe.text() == "Recipe Stout" and not choice.typed.isVisible()
    runner.do("set", "Wax", 66.0)
    runner.one_scan()
    assert choice.recipe.text() == "Recipe Stout" and choice.typed.text() == "1 value by hand"
    assert "Wax = 66.0, 70.0 in the file" in choice.typed.toolTip()
    runner.reset()
    runner.one_scan()
    assert {s.name: v for s, v in runner.by_hand()} == {"DipTime": 4000, "Wax": 66.0}
    choice.take("Slim")
    assert {s.name: v for s, v in runner.by_hand()} == {"DipTime": 900, "Dips[2].Lasts": 400, "Wax": 66.0}
    choice.keep("Slim")
    assert (
        recipes_of(window)["Slim"] == {"DipTime": 900, "Dips[2].Lasts": 400, "Wax": 66.0}
        and not choice.typed.isVisible()
    )
    choice.take("")
    assert runner.by_hand() == [] and choice.recipe.text() == "Recipe: none"
    runner.do("set", "Wax", 61.0)
    runner.one_scan()
    choice.keep("")
    assert window.document.project.signal("Wax").initial == 61.0 and runner.by_hand() == []
    runner.do("set", "DipTime", 1500)
    runner.one_scan()
    choice.typed.menu().aboutToShow.emit()
    named = {a.text().replace("&", ""): a for a in choice.typed.menu().actions()}
    named["Keep all as a new recipe"].trigger()
    assert recipes_of(window)["From the bench"] == {"DipTime": 1500}
    runner.do("set", "Wax", 1.0)
    runner.one_scan()
    named["Give them up"].trigger()
    runner.reset()
    runner.one_scan()
    assert runner.by_hand() == []


def test_what_a_scenario_set_is_gone_with_a_reset(made):
    project = dipper()
    rows = Scenario("s", 'given recipe "Slim"\nrun for 1 s\nexpect no alarms')
    window = made(replace(project, scenarios=(rows,)))
    window.runner.show(run_scenario(project, rows).session)
    assert {s.name for s, _ in window.runner.by_hand()} == {"DipTime", "Dips[2].Lasts"}
    window.runner.reset()
    assert window.runner.by_hand() == []


def test_recipes_are_given_over_to_an_input_that_chooses(made, monkeypatch):
    window = made(chosen(500, 800))
    window.show_stage(1)
    window.signals.show_part(PARTS.index("Recipes"))
    panel, before = window.signals.recipes, window.document.project
    offered = []
    monkeypatch.setattr(
        QInputDialog, "open", lambda d: offered.append(d.comboBoxItems()) or d.textValueSelected.emit("Kind")
    )
    panel.by.click()
    project = window.document.project
    assert (
        offered == [["Kind", "Go"]]
        and project.table("Products").comment == "1 R500, 2 R800"
        and "LIMIT(1, Kind, 2)" in project.opening
    )
    assert not panel.by.isEnabled()
    window.document.undo()
    assert window.document.project == before and panel.by.isEnabled()
