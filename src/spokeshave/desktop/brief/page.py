"""The brief: requirements as sentences with an identifier, and what shows each of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.tables import Column, ItemTable, ItemView
from spokeshave.model import edits
from spokeshave.model.edits import EditError
from spokeshave.model.project import REQUIREMENT_KINDS, Project, Requirement
from spokeshave.verify.coverage import Shown, coverage

_STATE = {"open": "○ open", "not run": "◔ not run", "failed": "✕ failed", "proven": "✓ proven"}


def set_shown_by(project: Project, row: int, text: str) -> Project:
    """Links a requirement to the scenarios named, separated by semicolons or commas; others are unlinked."""
    ident = project.requirements[row].ident
    wanted = [p.strip() for p in text.replace(";", ",").split(",") if p.strip()]
    for name in wanted:
        if project.scenario(name) is None:
            known = ", ".join(s.name for s in project.scenarios) or "none yet"
            raise EditError(f"there is no scenario {name!r}; there are: {known}")
    chosen = {n.lower() for n in wanted}
    scenarios = []
    for s in project.scenarios:
        others = tuple(r for r in s.shows if r != ident)
        shows = (*others, ident) if s.name.lower() in chosen else others
        scenarios.append(s if set(shows) == set(s.shows) else replace(s, shows=tuple(sorted(shows))))
    return replace(project, scenarios=tuple(scenarios))


def set_ident(project: Project, row: int, text: str) -> Project:
    """Another identifier; scenarios that show the requirement follow."""
    if not text:
        raise EditError("a requirement needs an identifier, for example R12")
    if any(r.ident == text for i, r in enumerate(project.requirements) if i != row):
        raise EditError(f"{text} is taken by another requirement")
    old = project.requirements[row].ident
    project = edits.change_item(project, "requirements", row, ident=text)
    return replace(
        project,
        scenarios=tuple(replace(s, shows=tuple(text if r == old else r for r in s.shows)) for s in project.scenarios),
    )


class BriefPage(QWidget):
    """The table of requirements."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.table = ItemTable(
            document,
            lambda p: coverage(p, document.results),
            [
                Column("Id", lambda s: s.requirement.ident, set_ident, 64),
                Column("Requirement", lambda s: s.requirement.text, self._put("text"), 500),
                Column("Kind", lambda s: s.requirement.kind, self._put("kind"), 92, REQUIREMENT_KINDS),
                Column("Shown by", lambda s: ", ".join(s.scenarios), set_shown_by, 260, edit_name="Link a requirement"),
                Column("State", lambda s: _STATE[s.state], None, 96),
            ],
        )
        self.view = ItemView(self.table, "Requirements")
        self.view.setWordWrap(True)
        self.view.verticalHeader().hide()
        self.view.verticalHeader().setDefaultSectionSize(46)
        self.summary = QLabel()
        self.summary.setObjectName("heading")
        add, remove = QPushButton("Add a requirement"), QPushButton("Delete")
        add.clicked.connect(self.add)
        remove.clicked.connect(self.remove)
        top = QHBoxLayout()
        top.setSpacing(8)
        top.setContentsMargins(12, 8, 12, 8)
        top.addWidget(self.summary, 1)
        top.addWidget(add)
        top.addWidget(remove)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self.view, 1)
        document.changed.connect(self.refresh)
        document.proven.connect(self._results_came)
        self.refresh()

    @staticmethod
    def _put(field: str) -> Callable[[Project, int, str], Project]:
        def put(project: Project, row: int, text: str) -> Project:
            return edits.change_item(project, "requirements", row, **{field: text})

        return put

    def _results_came(self) -> None:
        self.table.refresh()
        self.refresh()

    def refresh(self) -> None:
        shown: list[Shown] = coverage(self.document.project, self.document.results)
        proven = sum(s.state == "proven" for s in shown)
        unlinked = sum(s.state == "open" for s in shown)
        text = f"{len(shown)} requirements, {proven} proven"
        if unlinked:
            text += f", {unlinked} shown by nothing yet"
        self.summary.setText(text if shown else "Write down what the machine must do, one sentence each, with numbers.")
        marks = {(i, 4): "nothing shows this yet" for i, s in enumerate(shown) if s.state == "open"}
        marks |= {(i, 4): "a scenario that shows this has failed" for i, s in enumerate(shown) if s.state == "failed"}
        self.table.set_marks(marks)

    def add(self) -> None:
        taken = {r.ident.lower() for r in self.document.project.requirements}
        n = len(taken) + 1
        while f"r{n:02}" in taken:
            n += 1
        item = Requirement(f"R{n:02}", "New requirement")
        if self.document.edit("Add a requirement", lambda p: edits.add_item(p, "requirements", item)):
            row = self.table.rowCount() - 1
            self.view.select_row(row, 1)
            self.view.edit(self.table.index(row, 1))

    def remove(self) -> None:
        row = self.view.current_row()
        if row >= 0:
            self.document.edit("Delete a requirement", lambda p: edits.remove_item(p, "requirements", row))
