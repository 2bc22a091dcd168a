"""The brief: requirements as sentences with an identifier, and what shows each of them."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtWidgets import QApplication, QFileDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from spokeshave.desktop.brief.about import SIGNS, AboutRequirement
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.field_words import BRIEF
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.seen import while_seen
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.stage_page import StagePage
from spokeshave.desktop.tables import Column, ItemTable, ItemView, NextRow
from spokeshave.formats.brief_text import number_sentence, parse_brief, read_brief
from spokeshave.formats.errors import FormatError
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.project import REQUIREMENT_KINDS, Project, Requirement, with_shows
from spokeshave.verify.brief import guess_kind, link_names, link_problem, split_links
from spokeshave.verify.coverage import Shown

NOT_SHOWN = {"open": "nothing shows this yet", "failed": "what shows this has failed",
             "not shown": "no scenario brought the rule into play"}  # fmt: skip


def set_shown_by(project: Project, row: int, text: str) -> Project:
    """Links a requirement to the scenarios and rules named, separated by semicolons or commas; others are unlinked."""
    ident = project.requirements[row].ident
    chosen, links = split_links(project, text)
    scenarios = []
    for s in project.scenarios:
        others = tuple(r for r in s.shows if r != ident)
        shows = (*others, ident) if s in chosen else others
        scenarios.append(s if set(shows) == set(s.shows) else replace(s, text=with_shows(s.text, sorted(shows))))
    project = edits.change_item(project, "requirements", row, shown_by=tuple(links))
    return replace(project, scenarios=tuple(scenarios))


def set_ident(project: Project, row: int, text: str) -> Project:
    """Another identifier; scenarios that show the requirement follow."""
    if not text:
        raise EditError("a requirement needs an identifier, for example R12")
    if re.search(r'[\s,":]', text):
        raise EditError(f"{text} is no identifier: leave out spaces, commas, colons and quotes")
    if any(r.ident == text for i, r in enumerate(project.requirements) if i != row):
        raise EditError(f"{text} is taken by another requirement")
    old = project.requirements[row].ident
    project = edits.change_item(project, "requirements", row, ident=text)
    scenarios = (
        replace(s, text=with_shows(s.text, (text if r == old else r for r in s.shows))) if old in s.shows else s
        for s in project.scenarios
    )
    return replace(project, scenarios=tuple(scenarios))


def with_sentence(project: Project, text: str) -> Project:
    """One more requirement, with the next free identifier and the kind that its words speak of."""
    try:
        sentence = number_sentence(text, project, guess_kind)
    except FormatError as error:
        raise EditError(str(error)) from None
    return replace(project, requirements=(*project.requirements, sentence))


class BriefPage(StagePage):
    """The table of requirements."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document = document
        self.about = AboutRequirement(document, selection)
        self.table = ItemTable(
            document,
            lambda _: document.coverage(),
            [
                Column("Id", lambda s: s.requirement.ident, set_ident, 64, says=BRIEF["Id"]),
                Column("Requirement", lambda s: s.requirement.text, self._put("text"), 500, says=BRIEF["Requirement"]),
                Column(
                    "Kind", lambda s: s.requirement.kind, self._put("kind"), 92, REQUIREMENT_KINDS, says=BRIEF["Kind"]
                ),
                Column(
                    "Shown by",
                    lambda s: ", ".join(s.scenarios),
                    set_shown_by,
                    260,
                    edit_name="Link a requirement",
                    words=lambda p, _: link_names(p),
                    check=lambda p, _, text: link_problem(p, text),
                    says=BRIEF["Shown by"],
                ),
                Column("State", lambda s: f"{SIGNS[s.state]} {s.words}", None, 150, says=BRIEF["State"]),
            ],
            NextRow(1, "Type the next sentence", "Add a requirement", with_sentence),
        )
        self.view = ItemView(self.table, "Requirements")
        self.view.setWordWrap(True)
        self.view.verticalHeader().hide()
        self.view.verticalHeader().setDefaultSectionSize(46)
        self.summary = TextLabel()
        self.summary.setObjectName("heading")
        add, remove = QPushButton("Add a requirement"), QPushButton("Delete")
        add.clicked.connect(self.add)
        remove.clicked.connect(self.remove)
        top = QHBoxLayout()
        top.setSpacing(8)
        top.setContentsMargins(12, 8, 12, 8)
        top.addWidget(self.summary, 1)
        take = QPushButton("Import ...")
        take.setToolTip("Takes sentences in from a text, a spreadsheet or CSV")
        take.clicked.connect(self.ask_import)
        paste = QPushButton("Paste sentences")
        paste.setToolTip("Each copied sentence becomes a requirement")
        paste.clicked.connect(self.paste)
        top.addWidget(take)
        top.addWidget(paste)
        top.addWidget(add)
        top.addWidget(remove)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self.view, 1)
        self.empty = EmptyHint(self.view, "The brief comes first: what the machine must do, a sentence each, with numbers. "
                               "The proof will point back to these sentences.",
                               (("Write the first sentence", self.add), ("Paste sentences", self.paste)))  # fmt: skip
        column.addWidget(self.about)
        self.view.insert_asked.connect(self.add)
        self.view.selectionModel().currentRowChanged.connect(lambda *_: self._chosen())
        document.checked.connect(self._results_came)
        while_seen(self, document.changed, self.refresh)
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
        shown: list[Shown] = self.document.coverage()
        proven = sum(s.state == "proven" for s in shown)
        unlinked = sum(s.state == "open" for s in shown)
        text = f"{len(shown)} requirement{'s' if len(shown) != 1 else ''}, {proven} proven"
        if unlinked:
            text += f", {unlinked} shown by nothing yet"
        self.summary.setText(text if shown else "Write down what the machine must do, one sentence each, with numbers.")
        self.empty.show_while(not shown)
        self.table.set_marks({(i, 4): NOT_SHOWN[s.state] for i, s in enumerate(shown) if s.state in NOT_SHOWN})
        self._chosen()

    def first(self) -> QWidget:
        return self.view

    def go_to(self, place: Place) -> None:
        idents = [r.ident for r in self.document.project.requirements]
        if place.kind == "requirement":
            self.view.select_row(idents.index(place.item) if place.item in idents else 0)

    def _chosen(self) -> None:
        shown, row = self.document.coverage(), self.view.current_row()
        self.about.show_requirement(shown[row] if 0 <= row < len(shown) else None)

    def add(self) -> None:
        self.view.type_next()

    def ask_import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "Import a brief", "", "Texts and tables (*.txt *.md *.csv *.tsv *.xlsx)"
        )
        if name:
            self.take_in(Path(name))

    def take_in(self, path: Path) -> bool:
        """The sentences of a file, in one edit; a bad file is told and nothing changes."""
        try:
            found = read_brief(path, self.document.project, guess_kind)
        except FormatError as error:
            self.document.refused.emit(str(error))
            return False
        return self._take(found, path.name)

    def paste(self) -> bool:
        """The sentences on the clipboard."""
        clipboard = QApplication.clipboard()
        try:
            found = parse_brief(clipboard.text() if clipboard else "", self.document.project, guess_kind)
        except FormatError as error:
            self.document.refused.emit(str(error))
            return False
        return self._take(found, "the clipboard")

    def _take(self, found: list[Requirement], where: str) -> bool:
        if not found:
            self.document.refused.emit(f"there are no sentences in {where}")
            return False
        done = self.document.edit(
            f"Take in {len(found)} sentences", lambda p: replace(p, requirements=(*p.requirements, *found))
        )
        self.view.select_row(len(self.table.rows) - len(found), 1)
        return done

    def remove(self) -> None:
        row = self.view.current_row()
        if row >= 0:
            self.document.edit("Delete a requirement", lambda p: edits.remove_item(p, "requirements", row))
