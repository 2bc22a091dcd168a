"""Commands of the proof that go beyond scenarios: the fault sweep and the reachability study."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from spokeshave.cli.told import File, Json, fail, put_out, room_for, safe, today
from spokeshave.cli.workers import Cluster, Jobs, see_through, workers
from spokeshave.model.study import MOST

if TYPE_CHECKING:
    from spokeshave.model.project import Project
    from spokeshave.verify.sweep.matrix import Matrix

faults_app = typer.Typer()

SIGN = {"harmless": ".", "recovered": "r", "caught": "c", "silent": "S", "stuck": "K", "hazard": "!"}


@faults_app.command()
@safe
def faults(
    file: File,
    cycle: Annotated[str, typer.Option(help="The scenario to run again under every fault.")] = "",
    reset: Annotated[
        str, typer.Option(help="The scenario whose rows reset the machine; else reset and acknowledge.")
    ] = "",
    jobs: Jobs = 1,
    cluster: Cluster = "",
    csv_file: Annotated[Path | None, typer.Option("--csv", help="Write the matrix here.")] = None,
    junit_file: Annotated[Path | None, typer.Option("--junit", help="Write JUnit XML here.")] = None,
    accept: Annotated[bool, typer.Option("--accept", help="Keep this matrix in the file as the accepted one.")] = False,
    as_json: Json = False,
) -> None:
    """The fault sweep: every fault in every step of a cycle. Exit 1 for a bad cell nobody explained, or a worse one."""
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.formats.files import write_project
    from spokeshave.reading import read_project
    from spokeshave.verify.junit import sweep_junit
    from spokeshave.verify.sweep.matrix import accept_sweep, matrix_csv
    from spokeshave.verify.sweep.work import Sweep

    room_for(csv_file)
    room_for(junit_file)
    project = read_project(file)
    with workers(jobs, cluster) as executor:
        run = Sweep(project, cycle, reset, executor)
        see_through(run, executor)
    if run.problem:
        fail(f"{file}: {run.problem}")
    matrix = run.matrix
    if as_json:
        put_out("faults", **_data(project, matrix))
    else:
        _print(project, matrix)
    if csv_file is not None:
        write_text_atomically(matrix_csv(matrix), csv_file)
    if junit_file is not None:
        write_text_atomically(sweep_junit(project.name, matrix), junit_file)
    worse = [c for c in matrix.changed() if c.is_worse]
    if accept:
        write_project(accept_sweep(project, matrix, today()), file)
    if matrix.open() or (worse and not accept):
        raise typer.Exit(1)


@faults_app.command()
@safe
def reach(
    file: File,
    together: Annotated[list[str] | None, typer.Option(help="Two outputs, as A,B: are they ever on together?")] = None,
    before: Annotated[
        list[str] | None, typer.Option(help="Two steps, as Seq.A,Seq.B: does A always come before B?")
    ] = None,
    assume: Annotated[
        list[str] | None, typer.Option(help="A condition on inputs that always holds, beside those of the file.")
    ] = None,
    never: Annotated[
        list[str] | None, typer.Option(help="What must never be, as a condition; or as `while A: B`.")
    ] = None,
    rows: Annotated[
        bool, typer.Option("--rows", help="Ask what the never, always and while rows of the scenarios say, too.")
    ] = False,
    stored: Annotated[
        bool,
        typer.Option("--stored", help="Ask what is still stored when a sequence is back in its initial step, too."),
    ] = False,
    most: Annotated[int, typer.Option(help="Stop after so many situations.", min=1)] = MOST,
    keep: Annotated[
        bool, typer.Option("--keep", help="Put the ways that were found into the file, as scenarios.")
    ] = False,
    as_json: Json = False,
) -> None:
    """The reachability study: what can be reached whatever inputs do, and what never. Exit 1 for an answer that is bad."""
    from spokeshave.formats.files import write_project
    from spokeshave.reading import read_project
    from spokeshave.verify.reach.answers import study, study_data, with_ways
    from spokeshave.verify.reach.invariants import of_scenarios, of_stored
    from spokeshave.verify.reach.studied import StudyError

    project = read_project(file)
    assumed = (*project.study.assumptions, *(assume or ()))
    asked = (*(never or ()), *(of_scenarios(project) if rows else ()), *(of_stored(project) if stored else ()))
    try:
        found = study(project, assumed, map(_pair, together or ()), map(_pair, before or ()), most, None, asked)
    except StudyError as error:
        fail(f"{file}: {error}")
    if as_json:
        put_out("reach", **study_data(found))
    else:
        for a in found.answers:
            print(f"{WORDS[a.says.value]:14} {a.about}: {a.text}")
            if a.way is not None and a.says == "bad" and not keep:
                print("".join(f"               {line}\n" for line in a.way.text.splitlines()), end="")
        print(f"{found.situations:,} situations in {found.seconds:.2f} s")
        for limit in found.limits:
            print(f"  {limit}")
    if keep:
        write_project(with_ways(project, found), file)
    if any(a.says == "bad" for a in found.answers):
        raise typer.Exit(1)


WORDS = {"good": "proven", "bad": "no", "may": "may be", "unknown": "not decided"}


def _pair(text: str) -> tuple[str, str]:
    first, _, then = text.partition(",")
    if not then.strip():
        fail(f"{text!r}: write two names with a comma between them")
    return first.strip(), then.strip()


def _print(project: Project, matrix: Matrix) -> None:
    from spokeshave.verify.sweep.advice import causes
    from spokeshave.verify.sweep.matrix import alike

    print(f"Cycle: {matrix.cycle}")
    for said in matrix.said_first:
        print(f"  {said}.")
    for n, step in enumerate(matrix.steps):
        print("| " * n + f"  {step}")
    for fault in matrix.faults:
        signs = (SIGN[matrix.cells[fault, s].verdict] if (fault, s) in matrix.cells else " " for s in matrix.steps)
        print(" ".join(signs) + f"  {fault}")
    print(", ".join(f"{sign} {word}" for word, sign in SIGN.items()))
    for cells in alike(matrix):
        first, reason = cells[0], matrix.explained(cells[0])
        steps = ", ".join(c.step for c in cells)
        print(
            f"{first.verdict.value:8} {first.fault}, in {steps}: {first.because}"
            + (f" [{reason.reason}]" if reason else "")
        )
    for changed in matrix.changed():
        was = changed.accepted.value if changed.accepted is not None else "not there"
        word = "worse" if changed.is_worse else "better"
        print(
            f"{word:8} {changed.cell.fault}, in {changed.cell.step}: {changed.cell.verdict.value}, accepted was {was}"
        )
    print(matrix.summary())
    for told, cells in causes(project, matrix):
        print(f"  {len(cells):3} {'cell ' if len(cells) == 1 else 'cells'}  {told.text}.")
    if unexplained := matrix.open():
        print(f"{len(unexplained)} of them bad and not explained")


def _data(project: Project, matrix: Matrix) -> dict[str, object]:
    from spokeshave.verify.sweep.advice import causes

    return {
        "cycle": matrix.cycle,
        "without_fault": list(matrix.said_first),
        "causes": [{"text": told.text, "cells": len(cells)} for told, cells in causes(project, matrix)],
        "coverage": round(matrix.coverage, 4),
        "counts": {v.value: n for v, n in matrix.counts().items()},
        "cells": [
            {"fault": c.fault, "step": c.step, "verdict": c.verdict.value, "because": c.because,
             "injected_ms": c.injected_ms, "noticed_ms": c.noticed_ms, "cleared_ms": c.cleared_ms, "again_ms": c.again_ms,
             "explained": e.reason if (e := matrix.explained(c)) else ""}
            for c in matrix.in_order()
        ],
        "changed": [
            {"fault": c.cell.fault, "step": c.cell.step, "accepted": c.accepted.value if c.accepted else None, "worse": c.is_worse}
            for c in matrix.changed()
        ],
    }  # fmt: skip
