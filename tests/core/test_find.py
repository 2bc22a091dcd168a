"""Finding in the whole file, and where something is used: every text is looked at, and names are read as the language reads them."""

from __future__ import annotations

import dataclasses
from dataclasses import replace

from hypothesis import given

from spokeshave.language.references import Target
from spokeshave.language.rename import rename_signal, rename_step
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import AlarmRule, Device, Label, Project, Requirement, Scenario, Trip
from spokeshave.verify.all_texts import every_text
from spokeshave.verify.find import find_everywhere, target_of, used_where
from tests.core.projects import OUTPUTS, projects
from tests.core.test_semantics import gate, main

GATE = replace(
    main(gate(), hold_when="Stop"),
    requirements=(Requirement("R1", "The gate closes within 5 s, whatever Go does."),),
    opening="(* Go is a button *)\nCount := Count + 1;\nIF Go THEN Count := 0; END_IF;",
    trips=(Trip("Guard", 1, "Stop AND Go", scope=("Main",)),),
    alarms=(AlarmRule("Slow", "Main.Open.T > T#5s", "{Go} after {Main.Open.T}", device="Leaf"),),
    devices=(Device("Leaf", "actuator", (("extend", "Drive"),), (("extend_s", 5.0),)),),
    labels=(Label("the gate"),),
    scenarios=(Scenario("Opens", "// Go first\nat 1 s: set Go to TRUE\nrun for 5000 ms\nexpect by 3 s: Main.Open.X"),),
)


def lines(found) -> list[tuple[str, str, str]]:
    return [(str(f.place), f.what, f.line[f.begin : f.end]) for f in found]


def test_a_word_is_found_wherever_it_stands_with_its_line():
    assert lines(find_everywhere(GATE, "gate")) == [
        ("Gate", "file", "Gate"), ("requirement R1", "text", "gate"), ("board", "label", "gate"),
    ]  # fmt: skip
    at = [str(f.place) for f in find_everywhere(GATE, "Go", whole=True)]
    assert at == [
        "requirement R1", "signal Go", "opening logic, column 4", "opening logic, line 3, column 4", "Main, transition 10 to 20", "trip Guard",
        "alarm Slow", "alarm Slow", "scenario Opens, column 4", "scenario Opens, line 2, column 13",
    ]  # fmt: skip
    assert find_everywhere(GATE, "  ") == [] and find_everywhere(GATE, "Nowhere") == []


def test_a_time_is_found_however_it_is_written():
    for wanted in ("5 s", "T#5s", "5000ms"):
        assert {(str(f.place), f.line[f.begin : f.end]) for f in find_everywhere(GATE, wanted)} >= {
            ("requirement R1", "5 s"), ("alarm Slow", "T#5s"), ("scenario Opens, line 3, column 9", "5000 ms"),
        }  # fmt: skip


def test_uses_are_what_the_names_mean_not_what_is_spelt_alike():
    assert lines(used_where(GATE, Target("signal", "go"))) == [
        ("signal Go", "input", "Go"), ("opening logic, line 3, column 4", "opening logic", "Go"),
        ("Main, transition 10 to 20", "condition", "Go"), ("trip Guard", "condition", "Go"), ("alarm Slow", "value in the text", "Go"),
        ("scenario Opens, line 2, column 13", "row", "Go"),
    ]  # fmt: skip
    assert [w for _, w, _ in lines(used_where(GATE, Target("step", "open", "main")))] == [
        "step 20",
        "condition",
        "value in the text",
        "row",
    ]
    assert [w for _, w, _ in lines(used_where(GATE, Target("device", "leaf")))] == ["actuator", "points at"]
    assert target_of(GATE, Place("action", "Main", "Open Drive")) == Target("step", "open", "main")
    assert target_of(GATE, Place("trip", item="Guard")) is None


@given(projects())
def test_what_is_used_somewhere_is_found_there_and_nowhere_under_another_name(project: Project):
    for name in (*OUTPUTS, "A"):
        uses = used_where(project, Target("signal", name.lower()))
        assert uses[0].place == Place("signal", item=name)
        after = rename_signal(project, name, "Quite_Other")
        assert not used_where(after, Target("signal", name.lower()))
        assert [f.what for f in used_where(after, Target("signal", "quite_other"))] == [f.what for f in uses]
    step = project.sequences[0].steps[0].name
    uses = used_where(project, Target("step", step.lower(), "p"))
    after = rename_step(project, "P", step, "Quite_Other")
    assert [f.what for f in used_where(after, Target("step", "quite_other", "p"))] == [f.what for f in uses]


NOT_SAID = {
    "ident", "kind", "cls", "type", "contact", "retain", "qualifier", "number", "response", "sources", "targets", "priority", "initial", "home",
    "hold_outputs", "rank", "latching", "steps", "stored", "times", "at", "role", "shown_by", "group", "scope", "go_to", "zeroed", "stays", "key",
    "on", "delay", "device", "dead_ms", "name", "parameters", "wires",
}  # fmt: skip
"""Fields that are choices, numbers, or names that other texts have too."""


def test_no_text_of_the_file_is_passed_over(roastery):
    """Every text field of every item of the example is among the texts that are looked at."""
    texts = {t.text for t in every_text(roastery)}

    def walk(item: object) -> list[str]:
        if dataclasses.is_dataclass(item):
            fields = [f.name for f in dataclasses.fields(item) if f.name not in NOT_SAID]
            return [x for f in fields for x in walk(getattr(item, f))]
        if isinstance(item, tuple):
            return [x for i in item for x in walk(i)]
        return [item] if isinstance(item, str) and item.strip() else []

    parts = (roastery.requirements, roastery.signals, roastery.sequences, roastery.interlocks, roastery.trips, roastery.devices,
             roastery.scenarios, roastery.waivers, roastery.labels)  # fmt: skip
    missed = [x for part in parts for x in walk(part) if not any(x in t for t in texts)]
    assert not missed and len(texts) > 200
