"""The brief with its numbers and what shows it, accepted runs, and the planted mistakes."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from openpyxl import Workbook

from spokeshave.examples.mistakes import MISTAKES, planted
from spokeshave.formats import spoke
from spokeshave.formats.brief_text import parse_brief, read_brief
from spokeshave.formats.errors import FormatError
from spokeshave.model import edits
from spokeshave.model.edits import EditError
from spokeshave.model.project import Action, Project, Qualifier, Requirement, Scenario, Type
from spokeshave.verify.accepted import accept, apart, compare, keep, kept
from spokeshave.verify.brief import (
    guess_kind,
    link_names,
    link_problem,
    make_setting,
    name_for,
    numbers_in,
    settings_like,
    split_links,
)
from spokeshave.verify.check import findings
from spokeshave.verify.check.run import CODES
from spokeshave.verify.coverage import coverage
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.reach.answers import study
from spokeshave.verify.reach.asked import Says
from spokeshave.verify.scenarios import Run, run_all, run_scenario
from spokeshave.verify.sweep.work import Sweep
from tests.conftest import EXAMPLES
from tests.core.test_check import gate


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("It rests 4 s, then 1.5 min, above 160 °C.", [("4 s", Type.TIME, 4000), ("1.5 min", Type.TIME, 90_000), ("160 °C", Type.REAL, 160.0)]),
        ("After 0,5 s; 3 times, 12 mm", [("0,5 s", Type.TIME, 500), ("3 times", Type.INT, 3), ("12 mm", Type.REAL, 12.0)]),
        ("Step 20 opens gate B2 within 10 %", [("10 %", Type.REAL, 10.0)]),
        ("Nothing here: R12, 1.2.3, 5 gates", []),
    ],
)  # fmt: skip
def test_numbers_with_a_unit_are_found_and_offered_as_settings(text, found):
    numbers = numbers_in(text)
    assert [(n.text, n.type, n.value) for n in numbers] == found
    project = replace(gate(), requirements=(Requirement("R1", text),))
    for n in numbers:
        name = name_for(project, project.requirements[0], n)
        project = make_setting(project, "R1", n, name)
        assert name in settings_like(project, n) and project.signal(name).start == n.value
    for bad in ("Drive", "2nd", ""):
        with pytest.raises(EditError, match=r"taken|no name"):
            make_setting(project, "R1", numbers_in("1 s")[0], bad)


SENTENCE = st.from_regex(r"[A-Z][a-z]{1,8}( [a-z]{1,7}){1,5}\.", fullmatch=True)


@given(st.lists(SENTENCE, min_size=1, max_size=8, unique=True), st.sampled_from(["\n", " ", "\n\n", "\n- "]))
def test_a_text_becomes_one_requirement_a_sentence_with_identifiers_of_their_own(sentences, between):
    project = replace(gate(), requirements=(Requirement("R01", "There already."),))
    text = ("- " if "-" in between else "") + between.join(sentences)
    found = parse_brief(text, project, guess_kind)
    assert [r.text for r in found] == sentences
    idents = [r.ident for r in found]
    assert len(set(idents)) == len(idents) and "R01" not in idents


def test_identifiers_lists_and_kinds_of_a_text_are_kept(tmp_path):
    text = "# Brief\nR7: The gate opens on Go. It stays open for 3 s.\n2) Never both,\n   Drive and Lamp, together\n* After a reset it goes on.\n"
    path = tmp_path / "brief.txt"
    path.write_text(text, encoding="utf-8-sig")
    found = read_brief(path, gate(), guess_kind)
    assert [(r.ident, r.kind) for r in found] == [
        ("R7", "order"),
        ("R01", "time"),
        ("R02", "interlock"),
        ("R03", "recovery"),
    ]
    assert found[2].text == "Never both, Drive and Lamp, together"


def test_a_table_is_read_by_its_headings(tmp_path):
    book = Workbook()
    for row in (
        ("No.", "Requirement", "Kind"),
        ("A-1", "The lamp is lit by hand.", "manual"),
        (None, "", ""),
        (2, "It stops.", "odd"),
    ):
        book.active.append(row)
    book.save(tmp_path / "brief.xlsx")
    found = read_brief(tmp_path / "brief.xlsx", gate(), guess_kind)
    assert [(r.ident, r.text, r.kind) for r in found] == [
        ("A-1", "The lamp is lit by hand.", "manual"),
        ("R02", "It stops.", "order"),
    ]
    (tmp_path / "bad.csv").write_text("Id,Colour\nR1,red\n")
    with pytest.raises(FormatError, match="no column has the sentences"):
        read_brief(tmp_path / "bad.csv", gate(), guess_kind)
    (tmp_path / "one.csv").write_text("The gate opens.\nIt shuts.\n")
    assert [r.text for r in read_brief(tmp_path / "one.csv", gate(), guess_kind)] == ["The gate opens.", "It shuts."]


def test_a_requirement_is_proven_by_scenarios_rules_in_play_and_findings_that_are_not_there():
    text = 'shows R1\nat 10 ms: press Button\nafter 1 s: hold Mushroom\nrun for 3 s\nexpect alarm "Safety"'
    links = {
        "R1": (),
        "R2": ("trip Safety",),
        "R3": ("check step-no-exit",),
        "R4": ("window Main.Opening",),
        "R5": (),
        "R6": ("trip Gone",),
    }
    project = replace(
        gate(),
        scenarios=(Scenario("Stop", text),),
        requirements=tuple(Requirement(i, i, shown_by=n) for i, n in links.items()),
    )
    results = {"Stop": run_scenario(project, project.scenarios[0])}

    def states(results, found):
        return [c.state for c in coverage(project, results, found)]

    held = results["Stop"]
    assert states(results, findings(project))[1] == "not shown", (
        "the stop was never let go of: its latch never mattered"
    )
    freed = text.replace("run for 3 s", "after 500 ms: release Mushroom\nrun for 3 s")
    project = replace(project, scenarios=(Scenario("Stop", freed),))
    results = {"Stop": run_scenario(project, project.scenarios[0])}
    assert held.outcome is results["Stop"].outcome
    assert states(None, None) == ["not run", "not run", "not run", "not run", "open", "failed"]
    assert states(results, findings(project)) == ["proven", "proven", "proven", "not shown", "open", "failed"]
    assert [d.code for d in findings(project)] == ["link-broken"] and "trip Gone" in findings(project)[0].message
    dead_end = replace(
        project, sequences=(replace(project.sequences[0], transitions=project.sequences[0].transitions[:2]),)
    )
    assert [c.state for c in coverage(dead_end, None, findings(dead_end))][2] == "failed"
    scenarios, names = split_links(project, "stop; TRIP Safety, check step-no-exit")
    assert ([s.name for s in scenarios], names) == (["Stop"], ["trip Safety", "check step-no-exit"])
    with pytest.raises(EditError, match="no scenario and no rule 'trip Safely'; did you mean trip Safety"):
        split_links(project, "trip Safely")
    comma = replace(project, scenarios=(*project.scenarios, Scenario("Up, Stop, Down", "run for 1 s")))
    found, names = split_links(comma, "up, stop, down, trip Safety, stop")
    assert ([s.name for s in found], names) == (["Up, Stop, Down", scenarios[0].name], ["trip Safety"])
    assert link_problem(comma, "up, stop") and not link_problem(comma, "up, stop, down")
    assert {f"check {c}" for c in CODES} < set(link_names(project))


@pytest.fixture(scope="module")
def light() -> tuple[Project, Scenario, Run]:
    project = spoke.read(EXAMPLES / "roastery.spoke")
    return project, project.scenarios[0], run_scenario(project, project.scenarios[0]).runs[0]


def rerun(project: Project, scenario: Scenario) -> Run:
    return run_scenario(project, scenario).runs[0]


def test_an_accepted_run_agrees_with_itself_and_is_kept_in_the_file(light):
    project, scenario, run = light
    accepted = accept(scenario, run, note="2030-01-02")
    assert compare(accepted, run) == [] and apart(accepted, run) == {}
    saved = spoke.loads(spoke.dumps(keep(keep(project, accepted), accepted)))
    assert saved.accepted == (accepted,)
    assert kept(saved.accepted[0].lanes)["Burner"][0] == (0, 0.0) and compare(saved.accepted[0], run) == []


def test_one_step_that_takes_longer_is_one_difference_and_not_one_for_each_edge_behind_it(light):
    project, scenario, run = light
    row = [s.name for s in project.signals].index("CoolTime")
    slower = rerun(edits.change_item(project, "signals", row, initial=14_000), scenario)
    found = compare(accept(scenario, run), slower)
    assert [(d.lane, d.text) for d in found] == [("Cool.Stir", "lasted 2 s longer: 14 s, accepted 12 s")]
    assert compare(accept(scenario, run, within_ms=2000), slower) == []
    spans = apart(accept(scenario, run), slower)
    assert spans["Cool.Stir.X"] == [(found[0].accepted_ms, found[0].time_ms)] and "Roast.Drop.X" not in spans


def test_edges_and_steps_that_are_missing_or_new_are_told(light):
    project, scenario, run = light
    accepted = accept(scenario, run)
    lit = edits.change_step(project, "Roast", "CoolDown", actions=(Action(Qualifier.N, "Flap"),))
    assert {d.lane for d in compare(accepted, rerun(lit, scenario))} == {"Flap", "FlapOpened", "FlapClosed"}
    assert all("besides" in d.text for d in compare(accepted, rerun(lit, scenario)))
    dark = replace(scenario, text="given Degree is 1\n" + scenario.text)
    found = [(d.lane, d.text) for d in compare(accepted, rerun(project, dark))]
    assert ("Roast.RoastLight", "was not entered") in found and ("Roast.RoastDark", "was entered besides") in found
    fewer = replace(accepted, lanes=(*(x for x in accepted.lanes if x[0] != "Drum"), ("Gone", "0:1")))
    assert {(d.lane, d.text) for d in compare(fewer, run)} == {("Drum", "is new"), ("Gone", "is no longer there")}


def found_by_sweep(project: Project, fault: str) -> bool:
    """Whether the sweep has a bad cell of this fault that nobody explained; its row first, and no more than it takes."""
    run = Sweep(project)
    run._here.sort(key=lambda piece: run.matrix.faults[piece[0]] != fault)
    while not run.done and not any(c.fault == fault for c in run.matrix.open()):
        run.poll()
    return any(c.fault == fault for c in run.matrix.open())


@pytest.mark.parametrize("mistake", MISTAKES["roastery"], ids=lambda m: m.name)
def test_every_planted_mistake_is_found(roastery, mistake):
    project = planted(roastery, mistake)
    assert not findings(roastery), "the clean one has no finding, and no waiver is needed"
    if mistake.code:
        assert mistake.code in {d.code for d in findings(project)}
    elif mistake.fault or mistake.study:
        assert not findings(project) and all(r.outcome is Outcome.PASS for r in run_all(project)), (
            "no scenario shows it"
        )
        if mistake.fault:
            assert found_by_sweep(project, mistake.fault)
        else:
            bad = [a for a in study(project).answers if a.says is Says.BAD]
            assert mistake.study in {a.kind for a in bad} and all(a.way.replays for a in bad)
    else:
        assert not [d for d in findings(project) if d.severity != "advice"], "only the run shows it"
    if mistake.scenario:
        scenario = project.scenario(mistake.scenario)
        assert scenario is not None
        result = run_scenario(project, scenario)
        assert result.outcome is Outcome.FAIL and not result.problems


def test_the_variant_that_ships_is_the_roastery_with_its_mistake(roastery):
    mistake = next(m for m in MISTAKES["roastery"] if m.name == "left-unconfirmed")
    assert spoke.read(EXAMPLES / "roastery-mistake.spoke") == planted(roastery, mistake)
