"""What belongs to the chosen requirement: its numbers, offered as settings, and what shows it, with the way there."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QCompleter, QFrame, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import RichLabel, TextLabel
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Requirement, with_shows
from spokeshave.verify.brief import Number, link_names, make_setting, name_for, numbers_in, settings_like
from spokeshave.verify.coverage import Shown
from spokeshave.verify.protection import rules

COLOURS = {
    "proven": "true",
    "proven before": "false",
    "failed": "late",
    "not run": "faint",
    "not shown": "false",
    "open": "false",
}
SIGNS = {"proven": "✓", "proven before": "◌", "failed": "✕", "not run": "◔", "not shown": "◑", "open": "○"}


def link_to(project: Project, ident: str, name: str) -> Project:
    """A requirement that is shown by a scenario or a rule besides what shows it already. Raises `EditError`."""
    found = project.scenario(name)
    if found is not None:
        row = project.scenarios.index(found)
        text = with_shows(found.text, dict.fromkeys([*found.shows, ident]))
        return edits.change_item(project, "scenarios", row, text=text)
    known = {n.lower(): n for n in link_names(project)}
    if name.lower() not in known:
        raise edits.EditError(f"there is no scenario and no rule {name!r}")
    row = next(i for i, r in enumerate(project.requirements) if r.ident == ident)
    links = dict.fromkeys([*project.requirements[row].shown_by, known[name.lower()]])
    return edits.change_item(project, "requirements", row, shown_by=tuple(links))


def place_of(project: Project, name: str) -> Place:
    """Where a link leads: a scenario, the place of a rule, or the list of findings."""
    if project.scenario(name) is not None:
        return Place("scenario", item=name)
    return next((r.place for r in rules(project) if r.name == name), Place())


class AboutRequirement(QFrame):
    """What is known of the chosen requirement: its sentence with numbers that are settings, and what shows it."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.setObjectName("card")
        self.shown: Shown | None = None
        self.numbers: list[Number] = []
        self.new: list[Number] = []
        """Those that are no setting yet."""
        self.words = RichLabel()
        self.words.setWordWrap(True)
        self.words.linkActivated.connect(self._link)
        self.number = QComboBox()
        self.number.setAccessibleName("Number in the sentence")
        self.number.currentIndexChanged.connect(self._number_chosen)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the setting")
        self.name.setMaximumWidth(180)
        self.name.returnPressed.connect(self.make)
        self.make_button = QPushButton("Make it a setting")
        self.make_button.clicked.connect(self.make)
        self.link = QComboBox()
        self.link.setEditable(True)
        typed = self.link.lineEdit()
        assert typed is not None
        typed.setAccessibleName("What shows the requirement")
        self.link.setMinimumWidth(220)
        self.link.setAccessibleName("What shows the requirement")
        completer = self.link.completer()
        if completer is not None:
            completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
        link_button = QPushButton("Link")
        link_button.clicked.connect(self.add_link)
        row = QHBoxLayout()
        row.setSpacing(6)
        for widget in (self.number, self.name, self.make_button):
            row.addWidget(widget)
        row.addStretch(1)
        row.addWidget(TextLabel("Shown by"))
        row.addWidget(self.link)
        row.addWidget(link_button)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.addWidget(self.words, 1)
        column.addLayout(row)

    def show_requirement(self, shown: Shown | None) -> None:
        """The requirement that is chosen in the table, or none."""
        self.shown = shown
        self.setVisible(shown is not None)
        if shown is None:
            return
        project = self.document.project
        self.numbers = numbers_in(shown.requirement.text)
        chosen = self.number.currentText()
        self.number.blockSignals(True)
        self.number.clear()
        self.new = [n for n in self.numbers if not settings_like(project, n)]
        self.number.addItems([n.text for n in self.new])
        self.number.setCurrentIndex(max(0, self.number.findText(chosen)))
        self.number.blockSignals(False)
        for widget in (self.number, self.name, self.make_button):
            widget.setVisible(bool(self.new))
        self._number_chosen()
        names = link_names(project)
        if names != [self.link.itemText(i) for i in range(self.link.count())]:
            self.link.clear()
            self.link.addItems(names)
            self.link.setCurrentText("")
        self.words.setText(self._text(project, shown))

    def _text(self, project: Project, shown: Shown) -> str:
        lines = [f"<b>{escape(shown.requirement.ident)}</b> &nbsp; {escape(shown.requirement.text)}"]
        found = []
        for n in self.numbers:
            known = settings_like(project, n)
            links = " or ".join(f"<a href='signal:{escape(s)}'>{escape(s)}</a>" for s in known)
            found.append(f"{escape(n.text)} is {links}" if known else f"{escape(n.text)} is no setting yet")
        lines.append(("Numbers: " + ", ".join(found)) if found else "No numbers with a unit in it.")
        shows = [
            f"<span style='color:{theme.colour(COLOURS[link.state]).name()}'>{SIGNS[link.state]}</span> "
            f"<a href='link:{escape(link.name)}'>{escape(link.name)}</a> ({escape(link.why)})"
            for link in shown.links
        ]
        lines.append(
            "Shown by " + "; ".join(shows) if shows else "Nothing shows it yet: link it to a scenario or a rule."
        )
        return "<br>".join(lines)

    def _number_chosen(self) -> None:
        number, requirement = self._number(), self.shown.requirement if self.shown else Requirement("", "")
        if number is not None:
            self.name.setText(name_for(self.document.project, requirement, number))

    def _number(self) -> Number | None:
        at = self.number.currentIndex()
        return self.new[at] if 0 <= at < len(self.new) else None

    def make(self) -> bool:
        """The chosen number as a setting."""
        number, shown, name = self._number(), self.shown, self.name.text().strip()
        if number is None or shown is None:
            return False
        ident = shown.requirement.ident
        return self.document.edit(f"Make {name} a setting", lambda p: make_setting(p, ident, number, name))

    def add_link(self) -> bool:
        shown, name = self.shown, self.link.currentText().strip()
        if shown is None or not name:
            return False
        ident = shown.requirement.ident
        return self.document.edit(f"Link {ident}", lambda p: link_to(p, ident, name))

    def _link(self, target: str) -> None:
        kind, _, name = target.partition(":")
        self.selection.go(Place("signal", item=name) if kind == "signal" else place_of(self.document.project, name))
