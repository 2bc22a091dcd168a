"""Undo is a list of documents: each edit keeps the document before it, and shares what it did not change."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Entry:
    """A document, the name of the edit that made it, and what came before."""

    project: Project
    edit: str
    before: Entry | None = field(repr=False)


@dataclass(frozen=True, slots=True)
class History:
    """The present document with what can be undone and redone. `do`, `undo` and `redo` give a new history."""

    present: Entry
    undone: tuple[Entry, ...] = ()

    @classmethod
    def of(cls, project: Project) -> History:
        return cls(Entry(project, "", None))

    @property
    def project(self) -> Project:
        return self.present.project

    @property
    def undo_name(self) -> str:
        """The edit that undo would take back, or an empty string."""
        return self.present.edit if self.present.before else ""

    @property
    def redo_name(self) -> str:
        return self.undone[-1].edit if self.undone else ""

    def do(self, edit: str, project: Project) -> History:
        """The history with one more document. An edit that changes nothing leaves the history as it is."""
        if project is self.project:
            return self
        return History(Entry(project, edit, self.present))

    def undo(self) -> History:
        before = self.present.before
        return self if before is None else History(before, (*self.undone, self.present))

    def redo(self) -> History:
        return self if not self.undone else History(self.undone[-1], self.undone[:-1])
