"""From a machine file to a program that runs, with everything that stands in the way as diagnostics."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from spokeshave.engine import EngineError
from spokeshave.engine import program as pg
from spokeshave.engine.checked_texts import Texts
from spokeshave.engine.compilation import Compilation, Read
from spokeshave.engine.link_alarms import AlarmLinker
from spokeshave.engine.link_devices import DeviceLinker
from spokeshave.engine.link_names import check_names
from spokeshave.engine.link_protection import ProtectionLinker
from spokeshave.engine.link_sequence import SequenceLinker
from spokeshave.engine.names import TextScope
from spokeshave.language import checked as ck
from spokeshave.language.sub_sequences import run_problems, runs_any, without_runs, written_out
from spokeshave.machine.kinds import device_problems
from spokeshave.model.answers import Answers
from spokeshave.model.diagnostics import Diagnostic, Place
from spokeshave.model.project import Project


class LinkError(EngineError):
    """A machine file that cannot run; `found` says why."""

    def __init__(self, found: list[Diagnostic]) -> None:
        super().__init__("\n".join(map(str, found)))
        self.found = found


def link(project: Project, also: Sequence[ck.Checked] = ()) -> pg.Program:
    """The program of a machine file. Raises `LinkError` with every error found.

    No scan is jumped over in which one of the conditions in `also` could turn: somebody looks at them from outside. What they
    do not change is worked out once for all who look.
    """
    return _compiled(_known(project)).program(also)


def compilation(project: Project) -> Compilation:
    """A machine file with its texts compiled, for one who adds texts of his own. Raises `LinkError`."""
    return _compiled(_linked(project))


def link_problems(project: Project) -> list[Diagnostic]:
    """What keeps a machine file from running; empty if it runs."""
    return list(_known(project).found)


class Linker:
    """Checks every text of a machine file in its place, then compiles them all at once. What is in the way is in `found`. Of a
    machine file that was linked `before` it takes over what an edit has left.
    """

    def __init__(self, project: Project, before: Iterable[Linker] = ()) -> None:
        self.given = project
        self.project = written_out(project)
        self.texts: Texts = Texts(self.project, (linker.texts.kept for linker in before))
        self.found = self.texts.found
        self._texts_read = self._read()
        self._compilation: Compilation | None = None

    def _read(self) -> Read | None:
        """Every text checked in its place, or None with the errors in `found`."""
        project, texts = self.project, self.texts
        if runs_any(self.given):
            self.found += run_problems(self.given) or Linker(without_runs(self.given)).found
            if self.found:
                return None  # told of the texts as they are written, not of those that become of them
        check_names(project, texts.note)
        self.found += device_problems(project)
        if self.found:
            return None
        for place, p in texts.table.routines.problems():
            texts.note("text", place.spot(p.line, p.column), p.message, p.advice)
        if self.found:
            return None
        plain = TextScope(texts.table, None, texts.acted)
        opening = self._logic(project.opening, Place("opening"), plain)
        charts = SequenceLinker(texts)
        sequences = [charts.read(i, q) for i, q in enumerate(project.sequences)]
        protection = ProtectionLinker(texts)
        trips = [protection.trip(i, t) for i, t in enumerate(project.trips)]
        interlocks = [protection.interlock(i, lock) for i, lock in enumerate(project.interlocks)]
        pairs = [protection.pair(o) for o in project.opposed]
        alarms = AlarmLinker(texts)
        own_alarms = [linked for a in project.alarms if (linked := alarms.alarm(a)) is not None]
        closing = self._logic(project.closing, Place("closing"), plain)
        machine = DeviceLinker(texts)
        machine.read()
        home = texts.condition(project.home, Place(item="home"), plain) if project.home.strip() else None
        reset = texts.rising(project.reset, Place(item="reset"), plain)
        if self.found:
            return None
        return Read(
            charts, machine, sequences, trips, interlocks, pairs, alarms, own_alarms, opening, closing, home, reset
        )

    def compiled(self) -> Compilation | None:
        """Everything but what depends on who looks at the run; None where something is in the way."""
        if self._texts_read is not None and self._compilation is None:
            self._compilation = self._compile(self._texts_read)
        return self._compilation

    def _compile(self, found: Read) -> Compilation:
        texts = self.texts
        edges = [
            (
                kind,
                slot,
                texts.unit(operand, Place()),
                None if time is None else texts.unit(time, Place()),
                ck.form(operand),
            )
            for kind, slot, operand, time in texts.table.edges
        ]
        code = texts.compiled(found.charts.chosen)
        linked_edges = tuple(
            pg.LinkedEdge(kind, slot, code[operand], None if time is None else code[time], f"{kind} {form}")
            for kind, slot, operand, time, form in edges
        )
        return Compilation(self.project, texts, found, code, linked_edges)

    def _logic(self, text: str, place: Place, scope: TextScope) -> int | None:
        if not text.strip():
            return None
        tree = self.texts.check(text, place, scope, "statements")
        return None if tree is None else self.texts.unit(tree, place)


def _linked(project: Project) -> Linker:
    return Linker(project, _known.known())


_known: Answers[Linker] = Answers(_linked, most=4)


def _compiled(linker: Linker) -> Compilation:
    compiled = linker.compiled()
    if compiled is None:
        raise LinkError(linker.found)
    return compiled
