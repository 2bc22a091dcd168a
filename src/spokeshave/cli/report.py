"""The acceptance record from the command line: what it takes is run, its charts are drawn without a display."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

from spokeshave.cli.told import fail, today

if TYPE_CHECKING:
    from spokeshave.model.diagnostics import Diagnostic
    from spokeshave.model.project import Project
    from spokeshave.verify.reach.answers import Study
    from spokeshave.verify.scenarios import Result
    from spokeshave.verify.sweep.matrix import Matrix


def write_report(
    path: Path, project: Project, results: list[Result], found: list[Diagnostic], jobs: int = 1
) -> tuple[Matrix | str, Study | str]:
    """Sweeps and studies the machine file, then writes the record; gives what came of both.

    Without Qt there is HTML without charts, and no PDF.
    """
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.formats.spoke import fingerprint
    from spokeshave.verify.record import record_html

    swept, studied = _swept(project, jobs), _studied(project)
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    try:
        from spokeshave.desktop.application import make_app
        from spokeshave.desktop.record import write_record
    except ImportError as error:
        if path.suffix.lower() == ".pdf":
            fail(f"{path}: PDF needs Qt, which could not be loaded ({error}); HTML does without, but for charts")
        text = record_html(project, results, found, today(), None, swept, studied, fingerprint(project))
        write_text_atomically(text, path)
    else:
        make_app()
        write_record(path, project, results, found, today(), swept, studied)
    return swept, studied


def _swept(project: Project, jobs: int) -> Matrix | str:
    """The matrix, or why there is none."""
    from spokeshave.verify import processes
    from spokeshave.verify.sweep.work import Sweep

    executor = processes.executor(jobs) if jobs > 1 else None
    try:
        run = Sweep(project, executor=executor)
        while not run.done:
            run.poll()
    finally:
        if executor is not None:
            processes.let_go()
    return run.problem or run.matrix


def _studied(project: Project) -> Study | str:
    from spokeshave.engine.link import LinkError
    from spokeshave.verify.reach.answers import study
    from spokeshave.verify.reach.studied import StudyError

    try:
        return study(project)
    except (StudyError, LinkError) as error:
        return str(error)
