"""Scenarios against a controller outside, by the window: measured, run, judged, laid beside the model on the bench."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt

from spokeshave.desktop.against import BECAUSE, VERDICT, AgainstWindow
from spokeshave.desktop.document import Document
from spokeshave.desktop.serving import ServingWindow
from spokeshave.desktop.window import MainWindow
from spokeshave.fieldbus.address_map import AddressMap, Role, Table
from spokeshave.model.project import Scenario
from spokeshave.verify.processes import let_go
from tests.core.test_against import SILENT, soft

Left = Qt.MouseButton.LeftButton


def shown(window: AgainstWindow) -> dict[str, tuple[str, str]]:
    items = [window.list.topLevelItem(i) for i in range(window.list.topLevelItemCount())]
    return {i.text(0): (i.text(VERDICT), i.text(BECAUSE)) for i in items}


def test_a_wrong_controller_is_found_and_shown_beside_the_model(qtbot):
    by_hand = Scenario("Hand drive", "at 0 s: hand drive on\nrun for 1 s\nexpect finally NOT Drive")
    project = replace(SILENT, scenarios=(*SILENT.scenarios, by_hand))
    main = MainWindow(Document(project))
    main.asks_before_closing = False
    qtbot.addWidget(main)
    main.show()
    main.table.actions["run.against"].trigger()
    window = main.findChild(AgainstWindow)
    assert window is not None and window.isVisible()
    with soft(project, ("MainT > T#4s", "MainT > T#8s")).listening() as port:
        window.address.setText(f"127.0.0.1:{port}")
        qtbot.mouseClick(window.start_button, Left)
        assert window.cancel_button.isEnabled() and not window.start_button.isEnabled()
        qtbot.waitUntil(lambda: not window.cancel_button.isEnabled(), timeout=90_000)
    verdicts = shown(window)
    assert verdicts["Rounds"] == ("✓ pass", "changes came up to 10 ms after the model's")
    assert verdicts["Hand drive"] == ("not run", "line 1: it drives outputs by hand, which are the controller's")
    assert (
        verdicts["Jammed"][0] == "✕ fail"
        and "Lamp is off in the controller and on in the model" in verdicts["Jammed"][1]
    )
    assert window.state.text().startswith("5 of 6 passed, 1 not run; changes came up to 10 ms")
    window.list.setCurrentItem(window.list.topLevelItem(list(verdicts).index("Jammed")))
    assert "Main is in Fault, which asks for Lamp" in window.about.text()
    qtbot.mouseClick(window.show_button, Left)
    main.tasks.finish()
    assert main.stage == 4 and main.bench.strip.beside is not None and main.bench.strip.beside.spans("Lamp", False)
    main.document.edit("longer", lambda p: replace(p, signals=p.signals[:-1]))  # verdicts are of the file that ran
    assert set(shown(window).values()) == {("", "")}
    let_go()


def test_what_is_typed_wrong_is_said_and_another_machine_is_asked_about(qtbot):
    document = Document(SILENT)
    asked = []
    window = AgainstWindow(document, lambda: asked.append(1))
    qtbot.addWidget(window)
    window.show()
    for address, tolerance, says in (
        ("here", "", "HOST:PORT"), ("127.0.0.1:0", "", "HOST:PORT"), ("127.0.0.1:5020", "soon", "such as 50 ms"),
        ("192.0.2.7:502", "", "nothing that could move"),
    ):  # fmt: skip
        window.address.setText(address)
        window.tolerance.setText(tolerance)
        qtbot.mouseClick(window.start_button, Left)
        assert says in window.state.text() and window.start_button.isEnabled(), address
    assert window.unplugged.isVisible() and window.open.isVisible()
    qtbot.mouseClick(window.map_button, Left)
    assert asked
    window.tolerance.clear()
    window.address.setText("127.0.0.1:1")
    window.list.setCurrentItem(window.list.topLevelItem(1))
    assert not window.unplugged.isVisible()
    qtbot.mouseClick(window.one_button, Left)
    qtbot.waitUntil(lambda: "nobody answers at 127.0.0.1:1" in window.state.text(), timeout=60_000)
    qtbot.mouseClick(window.start_button, Left)
    qtbot.mouseClick(window.cancel_button, Left)
    assert window.state.text() == "Cancelled." and window.start_button.isEnabled()
    document.edit("no scenarios", lambda p: replace(p, scenarios=()))
    assert "written in Proof" in window.state.text() and not window.start_button.isEnabled()
    let_go()


def test_the_map_lets_clients_write_settings_and_turns_registers_round(qtbot, window: MainWindow):
    window.table.actions["run.against"].trigger()
    qtbot.mouseClick(window.findChild(AgainstWindow).map_button, Left)
    serving = window.findChild(ServingWindow)
    assert serving.role.currentData() == Role.CONTROLLER and not serving.by_count.isVisible()
    for name in ("CoolTime", "scan count", "scan echo"):
        serving.add_chosen(serving.more.findText(name))
    assert serving.by_count.isVisible()
    found = serving.map.findItems("CoolTime", Qt.MatchFlag.MatchExactly, 3)
    serving.map.setCurrentItem(found[0])
    qtbot.mouseClick(serving.may_write, Left)
    qtbot.mouseClick(
        serving.low_first, Left, pos=serving.low_first.rect().center() - serving.low_first.rect().center() / 1.2
    )
    project = window.document.project
    assert {p.name: p.table for p in AddressMap(project, Role.CONTROLLER).points}["CoolTime"] is Table.HOLDING
    assert project.low_word_first
    serving.map.setCurrentItem(serving.map.findItems("Gate", Qt.MatchFlag.MatchExactly, 3)[0])
    qtbot.mouseClick(serving.may_write, Left)
    assert "is no setting" in serving.state.text()
