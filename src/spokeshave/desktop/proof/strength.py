"""Strength in the desktop: what nobody would notice, how much of each step and rule is noticed, and rows taken over."""

from __future__ import annotations

from dataclasses import replace
from html import escape

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRect, Qt, QTimer
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QSplitter,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import RichLabel, StatusLabel, plain
from spokeshave.desktop.process_work import LOOK_MS
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.processes import executor
from spokeshave.verify.strength.noticed import Judged
from spokeshave.verify.strength.report import Report, Share, let_survive
from spokeshave.verify.strength.work import Strength

ASKS = "Small mistakes are planted one at a time, a term dropped, a time doubled, a mark in another step: would anybody notice?"
SHOWN = ("Nobody would notice", "Accepted with a reason", "Noticed", "Change nothing", "All")
GROUPS = (("place", "Steps, rules and texts"), ("kind", "Kinds of mistakes"), ("requirement", "Requirements"))
PART = int(Qt.ItemDataRole.UserRole)


class _Bars(QStyledItemDelegate):
    """A part of one as a bar with the figures beside it."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        super().paint(painter, option, index)
        part = index.data(PART)
        if part is None:
            return
        box: QRect = option.rect.adjusted(6, 7, -78, -7)
        painter.fillRect(box, theme.colour("hairline"))
        box.setWidth(round(box.width() * float(part)))
        painter.fillRect(box, theme.colour("true" if part >= 1 else "accent" if part >= 0.8 else "false"))


class StrengthPanel(QWidget):
    """The mistakes of the present machine file, planted by a press of a button."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.setProperty("manual", "strength#")
        self.document, self.selection = document, selection
        self.strength: Strength | None = None
        self.report: Report | None = None
        self._of: Project | None = None
        self._asked: tuple[Scenario, ...] = ()
        """The scenarios that were asked."""
        self._stale = True
        self._taken: set[int] = set()
        """Mistakes for which a row or a scenario was taken over since they were planted."""
        self._wanted = ""
        """The group whose mistakes are shown; empty for all."""
        self.start_button = QPushButton("Plant mistakes")
        self.start_button.setObjectName("primary")
        self.start_button.clicked.connect(self.start)
        self.study = QCheckBox("Ask the study too")
        self.study.setToolTip("What can be reached, of mistakes that check and scenarios do not notice: takes longer")
        self.cancel_button = QPushButton("Cancel")
        self.cancel_button.clicked.connect(self.stop)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setMaximumWidth(160)
        self.status = StatusLabel()
        self.status.setWordWrap(True)
        self.groups = QComboBox()
        self.groups.setAccessibleName("What the shares are of")
        self.groups.addItems([title for _, title in GROUPS])
        self.groups.currentIndexChanged.connect(lambda _: self._show_shares())
        self.shares = QTreeWidget()
        self.shares.setAccessibleName("How much is noticed")
        self.shares.setHeaderLabels(["Of", "Noticed"])
        self.shares.setRootIsDecorated(False)
        self.shares.setItemDelegateForColumn(1, _Bars(self.shares))
        self.shares.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.shares.header().setStretchLastSection(False)
        self.shares.setColumnWidth(1, 160)
        self.shares.currentItemChanged.connect(lambda *_: self._take_group())
        self.filter = QComboBox()
        self.filter.setAccessibleName("Which mistakes are shown")
        self.filter.addItems(SHOWN)
        self.filter.currentIndexChanged.connect(lambda _: self._show_mistakes())
        self.list = QTreeWidget()
        self.list.setAccessibleName("Mistakes")
        self.list.setHeaderLabels(["Where", "Mistake"])
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setColumnWidth(0, 190)
        self.list.currentItemChanged.connect(lambda *_: self._chosen())
        self.list.itemDoubleClicked.connect(lambda *_: self.show_place())
        self.about = RichLabel()
        self.about.setWordWrap(True)
        self.about.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.take_button = QPushButton("Take the row over")
        self.take_button.setObjectName("primary")
        self.take_button.clicked.connect(self.take_over)
        self.place_button = QPushButton("Show the place")
        self.place_button.clicked.connect(self.show_place)
        self.reason = QPlainTextEdit()
        self.reason.setMaximumHeight(64)
        self.reason.setTabChangesFocus(True)
        self.reason.setAccessibleName("Why it may stay unnoticed")
        self.reason.setPlaceholderText("why nobody need notice it")
        self.accept_button = QPushButton("Accept")
        self.accept_button.clicked.connect(self.accept)
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        self._arrange()
        document.changed.connect(self.refresh)
        self.refresh()

    def _arrange(self) -> None:
        top = QHBoxLayout()
        top.setContentsMargins(12, 6, 12, 4)
        top.setSpacing(8)
        for w in (self.start_button, self.study, self.cancel_button, self.progress):
            top.addWidget(w)
        top.addWidget(self.status, 1)

        def column(*widgets: QWidget, margins: tuple[int, int, int, int]) -> QWidget:
            box = QWidget()
            lines = QVBoxLayout(box)
            lines.setContentsMargins(*margins)
            lines.setSpacing(6)
            for w in widgets:
                lines.addWidget(w, 1 if isinstance(w, (QTreeWidget, RichLabel)) else 0)
            return box

        buttons = QWidget()
        row = QHBoxLayout(buttons)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.take_button)
        row.addWidget(self.place_button)
        row.addStretch(1)
        self.side = column(self.about, buttons, self.reason, self.accept_button, margins=(12, 8, 12, 8))
        both = QSplitter()
        both.addWidget(column(self.groups, self.shares, margins=(12, 4, 6, 8)))
        both.addWidget(column(self.filter, self.list, margins=(6, 4, 6, 8)))
        both.addWidget(self.side)
        both.setSizes([330, 590, 340])
        both.setStretchFactor(1, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(top)
        whole.addWidget(both, 1)
        self.empty = EmptyHint(self, ASKS, (("Plant mistakes", self.start),))

    # -- what is shown

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        if self._stale:
            self.refresh()

    def refresh(self) -> None:
        """Follows the document, in which reasons and rows that were taken over are; out of sight only when it is looked at again."""
        self._stale = not self.isVisible()
        if self._stale:
            return
        if self.report is not None and self._of is not None:
            if self._of is not self.document.project and self.document.project.runs_like(self._of):
                self._of = self.document.project
                self.report = replace(self.report, project=self._of)
            self._show_mistakes()
        self._sum_up()

    def of_present(self) -> bool:
        """Whether what is shown is of the machine file as it is."""
        return self._of is not None and self.document.project.runs_like(self._of)

    def whole(self) -> Report | None:
        """What was judged of the machine file as it is; None if that is not all of it."""
        report = self.report
        if report is None or len(report.judged) < len(report.mistakes) or not self.of_present():
            return None
        same = self.document.project.scenarios == self._asked  # with other scenarios others might notice
        return replace(report, project=self.document.project) if same else None

    def _sum_up(self) -> None:
        running, report = self.strength is not None, self.report
        if report is None:
            self.status.say("", "ink")
        else:
            whole, left = report.whole, len(report.unexplained)
            text = f"{whole.noticed} of {whole.of} mistakes are noticed ({100 * whole.part:.0f} %)"
            if not self.of_present() and not running:
                text += "; the file has changed since"
            elif self._taken:
                text += f"; rows for {len(self._taken)} were taken over: plant again to see them at work"
            elif left:
                text += f"; {left} that nobody would notice"
            if report.idle:
                text += f". Without any mistake, and so of no use here, {', '.join(report.idle[:3])} fail{'s' * (len(report.idle) == 1)}"
            self.status.say(text, "late" if left else "true")
        self.start_button.setEnabled(not running)
        self.study.setEnabled(not running)
        self.cancel_button.setVisible(running)
        self.progress.setVisible(running)
        self.empty.show_while(report is None and not running)
        for w in (self.groups, self.shares, self.filter, self.list, self.side):
            w.setVisible(report is not None)

    def _shares(self) -> list[Share]:
        return self.report.by(GROUPS[self.groups.currentIndex()][0]) if self.report is not None else []

    def _show_shares(self) -> None:
        self.shares.blockSignals(True)
        self.shares.clear()
        whole = self.report.whole if self.report is not None else Share("", 0, 0)
        for share in (Share("All", whole.noticed, whole.of), *self._shares()):
            item = QTreeWidgetItem([share.name, f"{share.noticed} of {share.of}"])
            item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            item.setData(1, PART, share.part)
            item.setToolTip(0, plain(share.name))
            self.shares.addTopLevelItem(item)
        self.shares.blockSignals(False)
        self._wanted = ""
        self._show_mistakes()

    def _take_group(self) -> None:
        item = self.shares.currentItem()
        self._wanted = item.text(0) if item is not None and self.shares.indexOfTopLevelItem(item) else ""
        self._show_mistakes()

    def listed(self) -> list[Judged]:
        """The mistakes that are shown, those that nobody would notice with the nearest first."""
        report = self.report
        if report is None:
            return []
        survived, accepted = report.of("survived"), [j for j in report.of("survived") if report.reason(j)]
        left = [j for j in survived if j not in accepted and j.index not in self._taken]
        noticed, same = report.of("noticed"), report.of("equivalent")
        found = (left, accepted, noticed, same, [*survived, *noticed, *same])[self.filter.currentIndex()]
        return [
            j
            for j in found
            if not self._wanted or report.belongs(j, GROUPS[self.groups.currentIndex()][0], self._wanted)
        ]

    def _show_mistakes(self) -> None:
        report, at = self.report, max(0, self.list.currentIndex().row())
        self.list.blockSignals(True)
        self.list.clear()
        for j in self.listed():
            assert report is not None
            m = report.mistakes[j.index]
            item = QTreeWidgetItem([str(m.place), m.words.removeprefix("if ")])
            item.setData(0, PART, j.index)
            item.setToolTip(1, plain(m.words))
            self.list.addTopLevelItem(item)
        self.list.blockSignals(False)
        if (kept := self.list.topLevelItem(min(at, self.list.topLevelItemCount() - 1))) is not None:
            self.list.setCurrentItem(kept)
        self._chosen()

    def chosen(self) -> Judged | None:
        """The mistake that is looked at."""
        item = self.list.currentItem()
        return self.report.judged[item.data(0, PART)] if item is not None and self.report is not None else None

    def _chosen(self) -> None:
        j, report = self.chosen(), self.report
        present = self.of_present()
        self.take_button.setEnabled(present and j is not None and j.state == "survived" and j.nearest is not None)
        self.take_button.setText(
            "Take the scenario over" if j is not None and j.nearest and j.nearest.text else "Take the row over"
        )
        self.place_button.setEnabled(j is not None)
        for w in (self.reason, self.accept_button):
            w.setEnabled(j is not None and j.state == "survived")
        self.reason.setPlainText(report.reason(j) if j is not None and report is not None else "")
        if j is None or report is None:
            self.about.setText("Choose a mistake.")
            return
        m = report.mistakes[j.index]
        head = m.sentence() if j.state == "survived" else m.words[:1].upper() + m.words[1:]
        lines = [f"<p><b>{escape(head)}.</b></p>", f"<p>{escape(m.kind.capitalize())}.</p>"]
        if j.state == "noticed":
            when = f", at {j.time_ms / 1000:.2f} s" if j.time_ms >= 0 else ""
            lines.append(f"<p>Noticed by {escape(j.by)}{when}:<br>{escape(j.how)}</p>")
        elif j.state == "equivalent":
            lines.append(f"<p>{escape(j.how.capitalize())}.</p>")
        elif j.nearest is not None:
            where = "A new scenario would" if j.nearest.text else f"A row of <i>{escape(j.nearest.scenario)}</i> would"
            text = "\n".join(x for x in (j.nearest.text, j.nearest.row) if x)
            lines.append(f"<p>{where}:</p><pre style='white-space:pre-wrap'>{escape(text)}</pre>")
        else:
            lines.append(f"<p>{escape(report.proposal(j)[:1].upper() + report.proposal(j)[1:])}.</p>")
        self.about.setText("".join(lines))

    # -- planting

    def start(self) -> None:
        """Plants the mistakes of the machine file as it is, in processes."""
        if self.strength is not None:
            return
        self._of = self.document.project
        self._taken = set()
        self.strength = Strength(self._of, executor(), study=self.study.isChecked())
        self.report = self.strength.report
        self._show_shares()
        self._timer.start()
        self._sum_up()

    def stop(self) -> None:
        """Cancels what runs; what is judged stays."""
        if self.strength is not None:
            self.strength.cancel()
            self._look()

    def _look(self) -> None:
        strength = self.strength
        if strength is None:
            self._timer.stop()
            return
        new = strength.poll()
        self.progress.setValue(int(100 * strength.part))
        if new or strength.done:
            self.take(strength.report, strength.project)
        if strength.done:
            self.strength = None
            self._timer.stop()
            self._sum_up()
            if strength.problem:
                self.report = None
                self._sum_up()
                self.status.say(f"Cannot be judged. {strength.problem}", "late")

    def take(self, report: Report, project: Project) -> None:
        """Shows what was judged of this machine file."""
        self.report, self._of, self._asked = report, project, project.scenarios
        wanted = self._wanted
        self._show_shares()
        if wanted:
            found = self.shares.findItems(wanted, Qt.MatchFlag.MatchExactly)
            if found:
                self.shares.setCurrentItem(found[0])
        self._sum_up()

    # -- edits

    def take_over(self) -> bool:
        """The row, or the scenario, that would notice the chosen mistake."""
        j, report = self.chosen(), self.report
        if j is None or report is None or j.nearest is None or not self.of_present():
            return False
        name = "Add a scenario" if j.nearest.text else f"Add a row to {j.nearest.scenario}"
        done = self.document.edit(name, lambda p: report.with_proposal(j, p))
        if done:
            self._taken.add(j.index)
            self.refresh()
        return done

    def accept(self) -> bool:
        """Takes the reason typed for the chosen mistake; none takes it away."""
        j, report, reason = self.chosen(), self.report, self.reason.toPlainText()
        if j is None or report is None or j.state != "survived":
            return False
        mistake = report.mistakes[j.index]
        return self.document.edit("Accept a mistake", lambda p: let_survive(p, mistake, reason))

    def show_place(self) -> None:
        """Goes to where the chosen mistake would be."""
        j = self.chosen()
        if j is not None and self.report is not None:
            self.selection.go(self.report.mistakes[j.index].place)
