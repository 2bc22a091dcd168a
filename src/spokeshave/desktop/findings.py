"""The findings of the check: filter, jump, mend with one click, waive with a reason."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QTreeWidgetItem, QVBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.place_lists import PlaceList
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.model.diagnostics import Diagnostic, Severity
from spokeshave.verify.check.remedies import Remedy, remedy
from spokeshave.verify.check.waivers import place_text, unwaive, waive

_SIGNS = {"error": "✕ error", "warning": "! warning", "advice": "· advice"}
_COLOURS = {"error": "late", "warning": "false", "advice": "faint"}
SHOWN = ("all open", "errors", "warnings", "advice", "waived")


class FindingsList(QWidget):
    """What the static check found, worst first. *Mend* is one undo; *Waive* asks for the reason in the line beside it."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.setProperty("manual", "check#")
        self.document = document
        self.list = PlaceList(
            "Findings", ["Severity", "Where", "What is wrong", "What to do"], [96, 220, 420, 300], selection
        )
        self.list.currentItemChanged.connect(lambda *_: self._chosen())
        self._rows: list[Diagnostic] = []
        self._written: object = None
        """The rows in the list as they are written, and in which colours."""
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter")
        self.filter.setAccessibleName("Filter of the findings")
        self.filter.setClearButtonEnabled(True)
        self.filter.setMaximumWidth(180)
        self.filter.textChanged.connect(self.refresh)
        self.shown = QComboBox()
        self.shown.setAccessibleName("Findings shown")
        self.shown.addItems(SHOWN)
        self.shown.currentIndexChanged.connect(self.refresh)
        self.mend = QPushButton("Mend")
        self.mend.clicked.connect(self.mend_chosen)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why it may stand, then Enter")
        self.reason.setAccessibleName("Reason of the waiver")
        self.reason.returnPressed.connect(self.waive_chosen)
        self.waive = QPushButton("Waive")
        self.waive.clicked.connect(self.waive_chosen)
        row = QHBoxLayout()
        row.setContentsMargins(6, 3, 6, 3)
        row.setSpacing(6)
        row.addWidget(self.filter)
        row.addWidget(self.shown)
        row.addWidget(self.mend)
        row.addWidget(self.reason, 1)
        row.addWidget(self.waive)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        column.addWidget(self.list, 1)
        document.checked.connect(self.refresh)
        self.refresh()

    # -- what is shown

    def refresh(self) -> None:
        """The rows again; the chosen finding stays chosen while it is there."""
        chosen = self.chosen()
        wanted, kind = self.filter.text().strip().lower(), self.shown.currentText()
        reasons = dict(self.document.waived)
        rows: list[tuple[Diagnostic, list[str]]] = []
        for d in reasons if kind == "waived" else self.document.findings:
            cells = [_SIGNS[d.severity], str(d.place), d.message, reasons.get(d, d.advice)]
            fits = kind in ("all open", "waived") or d.severity.value == kind.removesuffix("s")
            if fits and wanted in " ".join((d.code, *cells)).lower():
                rows.append((d, cells))
        written = (rows, theme.now)
        if written != self._written:  # a large machine has hundreds, and most edits change none
            self._written = written
            self.list.clear()
            self._rows = [d for d, _ in rows]
            for n, (d, cells) in enumerate(rows):
                self.list.add(cells, d.place, _COLOURS[d.severity])
                row = self.list.topLevelItem(n)
                if d == chosen and row is not None:
                    self.list.setCurrentItem(row)
        self._chosen()

    def row(self, index: int) -> QTreeWidgetItem | None:
        return self.list.topLevelItem(index)

    def chosen(self) -> Diagnostic | None:
        item = self.list.currentItem()
        index = -1 if item is None else self.list.indexOfTopLevelItem(item)
        return self._rows[index] if 0 <= index < len(self._rows) else None

    def _remedy(self) -> Remedy | None:
        d = self.chosen()
        return None if d is None or d in dict(self.document.waived) else remedy(self.document.project, d)

    def _chosen(self) -> None:
        d, mend = self.chosen(), self._remedy()
        self.mend.setText("Mend" if mend is None else mend[0])
        self.mend.setEnabled(mend is not None)
        waived = d is not None and d in dict(self.document.waived)
        self.waive.setText("Take the waiver away" if waived else "Waive")
        self.waive.setEnabled(d is not None and d.severity is not Severity.ERROR)
        self.reason.setVisible(not waived)
        self.reason.setEnabled(self.waive.isEnabled())

    # -- what is done

    def mend_chosen(self) -> bool:
        mend = self._remedy()
        if mend is None or not self.document.edit(mend[0], mend[1]):
            return False
        self.document.check()
        return True

    def waive_chosen(self) -> bool:
        d = self.chosen()
        if d is None:
            return False
        if d in dict(self.document.waived):
            done = self.document.edit("Take a waiver away", lambda p: unwaive(p, d.code, place_text(d)))
        else:
            reason = self.reason.text()
            done = self.document.edit(f"Waive {d.code}", lambda p: waive(p, d, reason))
        if done:
            self.reason.clear()
            self.document.check()
        return done
