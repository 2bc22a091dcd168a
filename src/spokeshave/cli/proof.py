"""Commands of the proof: verify, accepted runs, tidy scenarios, a brief from elsewhere."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from spokeshave.cli.against import Against, Outside, RealTime, TheirScan, Tolerance, Unit, run_against
from spokeshave.cli.report import write_report
from spokeshave.cli.told import File, Json, fail, print_results, put_out, room_for, safe, scenario_named, show, today
from spokeshave.model.diagnostics import several

if TYPE_CHECKING:
    from spokeshave.model.diagnostics import Diagnostic
    from spokeshave.model.project import Project, Scenario
    from spokeshave.verify.accepted import Difference
    from spokeshave.verify.coverage import Shown
    from spokeshave.verify.ledger import Ledger
    from spokeshave.verify.scenarios import Result

    Compared = list[tuple[str, list[Difference]]]

SHOWN = 8
"""Requirements that are not proven and are named."""
proof_app = typer.Typer()

One = Annotated[str, typer.Option("--scenario", help="Only this scenario.")]
Group = Annotated[str, typer.Option("--group", help="Only the scenarios of this group.")]


def _chosen(project: Project, one: str, group: str) -> list[Scenario]:
    if one:
        return [scenario_named(project, one)]
    found = [s for s in project.scenarios if not group or s.group.lower() == group.lower()]
    if group and not found:
        known = dict.fromkeys(s.group for s in project.scenarios if s.group)
        fail(f"there is no group {group!r}; there are: {several(known) or 'none'}")
    return found


def _run(project: Project, scenarios: list[Scenario], jobs: int) -> list[Result]:
    """One after the other here, or in processes."""
    from spokeshave.verify.batch import Batch
    from spokeshave.verify.processes import let_go
    from spokeshave.verify.scenarios import run_scenario

    if jobs <= 1 or len(scenarios) < 2:
        return [run_scenario(project, s) for s in scenarios]
    try:
        batch = Batch(project, scenarios, jobs)
        while not batch.done:
            batch.poll()
            time.sleep(0.01)
    finally:
        let_go()
    if batch.problem:
        fail(batch.problem)
    return [r for _, r in sorted(batch.results.items())]


@proof_app.command()
@safe
def verify(
    file: File,
    junit_file: Annotated[Path | None, typer.Option("--junit", help="Write JUnit XML here.")] = None,
    report: Annotated[
        Path | None, typer.Option(help="Write the acceptance record here (.html, .pdf), with sweep and study.")
    ] = None,
    table: Annotated[
        Path | None,
        typer.Option("--table", help="Write the results as a spreadsheet here (.xlsx, or .csv of the scenarios)."),
    ] = None,
    scenario: One = "",
    group: Group = "",
    only_changed: Annotated[
        bool, typer.Option("--changed", help="Only scenarios without a kept verdict that holds; see --keep.")
    ] = False,
    keep: Annotated[
        bool, typer.Option("--keep", help="Keep the verdicts beside the file (NAME.spoke.accepted).")
    ] = False,
    jobs: Annotated[int, typer.Option("--jobs", help="Processes to run scenarios in.", min=1)] = 1,
    against: Against = "",
    tolerance: Tolerance = "",
    their_scan: TheirScan = "",
    real_time: RealTime = False,
    unit: Unit = 1,
    outside: Outside = False,
    as_json: Json = False,
) -> None:
    """All scenarios, the check, and the accepted runs. Exit 1 if anything failed or differs."""
    from spokeshave.formats import spoke
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.model.diagnostics import errors
    from spokeshave.reading import read_project
    from spokeshave.verify.accepted import compared_runs
    from spokeshave.verify.check import findings
    from spokeshave.verify.coverage import cannot_run, coverage
    from spokeshave.verify.expectations import Outcome
    from spokeshave.verify.junit import junit

    room_for(junit_file)
    room_for(report, (".html", ".pdf"))
    room_for(table, (".xlsx", ".csv"))
    project = read_project(file)
    found = findings(project)
    ledger = _kept(project, file, keep or only_changed)
    chosen = _chosen(project, scenario, group)
    spared = [ledger.standing[s.name] for s in chosen if only_changed and ledger.spares(s.name)]
    chosen = [s for s in chosen if s.name not in {k.proof.scenario for k in spared}]
    beside: dict[str, Any] = {}
    told: list[str] = []
    if against:
        if keep or only_changed or report or table:
            fail(
                "--against goes with --scenario, --group, --junit and --json: its verdicts are those of another controller"
            )
        if cannot_run(found):
            show(errors(found), False)
            raise typer.Exit(1)
        results, beside, told = run_against(
            project, chosen, file, against, tolerance, their_scan, real_time, unit, outside
        )
        compared: Compared = []
    else:
        results = [] if cannot_run(found) else _run(project, chosen, jobs)
        compared = compared_runs(project, results)
    ledger.take(results, project, today())
    covered = [] if against else coverage(project, ledger.results, found, ledger.standing)
    if keep:
        spoke.write(project, file, ledger.kept(project))
    if as_json:
        data = _results_data(results, found, compared, covered)
        data["kept"] = [{"name": k.proof.scenario, "outcome": k.proof.outcome.value, "on": k.proof.on} for k in spared]
        put_out("verify", **data, **({"against": beside} if against else {}))
    else:
        show([d for d in found if d.severity != "advice"], False)
        for k in spared:
            print(f"{'holds':12} {k.proof.scenario}: {k.words}")
        print_results(results)
        for label, differences in compared:
            print(f"{'differs' if differences else 'as accepted':12} {label}")
            for d in differences:
                print(f"    {max(d.time_ms, d.accepted_ms)} ms: {d.lane} {d.text}")
        proven = sum(c.state == "proven" for c in covered)
        for line in told:
            print(line)
        if covered:
            left = [c.requirement.ident for c in covered if c.state != "proven"]
            named = f": not {several(left, SHOWN)}" if left else ""
            print(f"{proven} of {len(covered)} requirements proven{named}")
    if junit_file is not None:
        write_text_atomically(junit(project.name, results, found, compared), junit_file)
    if table is not None:
        from spokeshave.formats.tables.pages import write_pages
        from spokeshave.verify.results_table import results_tables

        write_pages(results_tables(results, covered, found, compared), table)
    if report is not None:
        write_report(report, project, results, found, jobs)
    if errors(found) or any(r.outcome is not Outcome.PASS for r in results) or any(d for _, d in compared):
        raise typer.Exit(1)


def _kept(project: Project, file: Path, asked: bool) -> Ledger:
    """The verdicts beside a machine file, if they are asked for."""
    from spokeshave.formats.beside import read_beside
    from spokeshave.verify.ledger import Ledger

    ledger = Ledger()
    if asked:
        if file.suffix.lower() != ".spoke":
            fail("verdicts are kept beside a machine file (.spoke); convert this one first")
        ledger.take_kept(read_beside(file).verdicts, project)
    return ledger


def _results_data(
    results: list[Result], found: list[Diagnostic], compared: Compared, covered: list[Shown]
) -> dict[str, Any]:
    return {
        "findings": [
            {"code": d.code, "severity": d.severity, "where": str(d.place), "message": d.message} for d in found
        ],
        "scenarios": [
            {
                "name": r.scenario.name, "group": r.scenario.group, "outcome": r.outcome.value, "shows": list(r.scenario.shows),
                "stopped": r.stopped,
                "problems": [{"line": p.line, "message": p.message} for p in r.problems],
                "undone": [{"line": line, "row": row} for line, row in r.undone],
                "verdicts": [
                    {"run": run.label, "line": v.line, "row": v.text, "outcome": v.outcome.value, "time_ms": v.time_ms,
                     "because": v.because}
                    for run in r.runs for v in run.verdicts
                ],
            }
            for r in results
        ],
        "accepted": [
            {"run": label, "differences": [{"what": d.lane, "time_ms": d.time_ms, "accepted_ms": d.accepted_ms, "text": d.text}
                                           for d in differences]}
            for label, differences in compared
        ],
        "requirements": [
            {"ident": c.requirement.ident, "state": c.state, "why": c.why, "shown_by": [link.name for link in c.links]} for c in covered
        ],
    }  # fmt: skip


@proof_app.command("accept")
@safe
def accept_runs(
    file: File,
    scenario: One = "",
    group: Group = "",
    within_ms: Annotated[int, typer.Option(help="How far times may differ later, in ms.", min=0)] = 50,
    within: Annotated[float, typer.Option(help="How far numbers may differ later.", min=0)] = 1.0,
) -> None:
    """Run scenarios and keep the runs that passed in the machine file, to compare later runs with. Exit 1 if any failed."""
    from spokeshave.formats.files import write_project
    from spokeshave.reading import read_project
    from spokeshave.verify.accepted import accept, keep
    from spokeshave.verify.expectations import Outcome
    from spokeshave.verify.scenarios import run_scenario

    project = read_project(file)
    results = [run_scenario(project, s) for s in _chosen(project, scenario, group)]
    for r in results:
        for run in r.runs if r.outcome is Outcome.PASS else ():
            project = keep(project, accept(r.scenario, run, within_ms, within, today()))
    write_project(project, file)
    print_results(results)
    if any(r.outcome is not Outcome.PASS for r in results):
        raise typer.Exit(1)


@proof_app.command()
@safe
def tidy(file: File) -> None:
    """Write the rows of all scenarios in their usual form."""
    from spokeshave.formats.files import write_project
    from spokeshave.language.scenario_print import format_scenario
    from spokeshave.model import edits
    from spokeshave.reading import read_project

    project = read_project(file)
    changed = []
    for i, s in enumerate(project.scenarios):
        text = format_scenario(s.text)
        if text != s.text:
            project = edits.change_item(project, "scenarios", i, text=text)
            changed.append(s.name)
    if changed:
        write_project(project, file)
        print(f"Tidied: {', '.join(changed)}")


@proof_app.command()
@safe
def brief(
    file: File,
    source: Annotated[Path, typer.Argument(help="Sentences: a text (.txt, .md) or a table (.csv, .xlsx).")],
) -> None:
    """Take the sentences of a text or a spreadsheet into the brief, one requirement each."""
    from spokeshave.formats.brief_text import read_brief
    from spokeshave.formats.files import write_project
    from spokeshave.model import edits
    from spokeshave.reading import read_project
    from spokeshave.verify.brief import guess_kind

    project = read_project(file)
    found = read_brief(source, project, guess_kind)
    if not found:
        fail(f"{source}: there are no sentences in it")
    write_project(edits.put_items(project, "requirements", (*project.requirements, *found)), file)
    for r in found:
        print(f"{r.ident:8} {r.kind:10} {r.text}")
