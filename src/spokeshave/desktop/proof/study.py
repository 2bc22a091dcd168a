"""The reachability study in the desktop: what is asked, the answers, and the ways to what is bad."""

from __future__ import annotations

import datetime
from collections.abc import Iterable
from dataclasses import replace
from html import escape

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QSplitter,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.both_bar import BothBar
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import RichLabel, StatusLabel, TextLabel, plain
from spokeshave.desktop.process_work import Elsewhere
from spokeshave.desktop.theme import code_font, theme
from spokeshave.engine.link import LinkError
from spokeshave.model.project import Project
from spokeshave.verify.progress import look
from spokeshave.verify.reach.answers import Study, study, with_ways
from spokeshave.verify.reach.asked import Answer, Says
from spokeshave.verify.reach.invariants import of_scenarios, of_stored, said
from spokeshave.verify.reach.questions import examples, parse_plan, print_plan
from spokeshave.verify.reach.studied import StudyError
from spokeshave.verify.scenarios import Run
from spokeshave.verify.standing import Work, changed, study_basis, told

MOST = 300_000
"""Situations after which a study ends here; the command goes on longer."""

SIGNS = {Says.GOOD: ("✓", "true", "proven"), Says.BAD: ("✕", "late", "no"), Says.MAY: ("◐", "false", "may be"),
         Says.UNKNOWN: ("◔", "faint", "not decided")}  # fmt: skip
HEADS = {"reached": "Everything is reached", "stuck": "It never gets stuck", "home": "It can always get home", "together": "Never on together",
         "safe": "Steps are entered once", "before": "One before the other", "never": "What must never be"}  # fmt: skip


def _still_wanted(situations: int) -> bool:
    look(min(1.0, situations / MOST))
    return True


def answers_of(project: Project) -> Study | str:
    """In a process: the study, or why there is none."""
    try:
        return study(project, most=MOST, progress=_still_wanted)
    except (StudyError, LinkError) as error:
        return str(error)


ASKS = (
    "Whatever the inputs do and however long each step takes: what can be reached, what can get stuck, does it always get home, what is "
    "never on together?"
)


class StudyPanel(QWidget):
    """`show_asked` carries a run, what it is, and a time in ms to look at on the bench."""

    show_asked = Signal(object, str, int)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.setProperty("manual", "proof#Reachability study")
        self.document = document
        self.found: Study | None = None
        self._of: Project | None = None
        self.elsewhere = Elsewhere(self)
        self._stale = True
        self.start_button = QPushButton("Study")
        self.start_button.setObjectName("primary")
        self.start_button.clicked.connect(self.start)
        self.cancel_button = QPushButton("Cancel")
        self.cancel_button.clicked.connect(self.stop)
        self.status = StatusLabel()
        self.keep_button = QPushButton("Keep the ways as scenarios")
        self.keep_button.setToolTip("Puts every way that leads to something bad into the group Study")
        self.keep_button.clicked.connect(self.keep)
        self.text = QPlainTextEdit()
        self.text.setFont(code_font(13))
        self.text.setAccessibleName("What is assumed and asked")
        self.text.textChanged.connect(self._typed)
        self.both = BothBar(self.text, self.apply_text)
        self.fault = TextLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.rows_button = QPushButton("Take rows over")
        self.rows_button.setToolTip(
            "A line for each never, always and while row of the scenarios: proven of everything, not of some runs"
        )
        self.rows_button.clicked.connect(self.take_rows)
        self.stored_button = QPushButton("Ask what stays stored")
        self.stored_button.setToolTip(
            "A line for each output that steps store: is it still on when the sequence is back in its initial step?"
        )
        self.stored_button.clicked.connect(self.ask_stored)
        self.apply_button = QPushButton("Apply")
        self.apply_button.clicked.connect(self.apply_text)
        self.limits = RichLabel()
        self.limits.setWordWrap(True)
        self.limits.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.answers = QTreeWidget()
        self.answers.setAccessibleName("Answers")
        self.answers.setHeaderLabels(["", "About", "Answer"])
        self.answers.setRootIsDecorated(False)
        self.answers.setColumnWidth(0, 100)
        self.answers.setColumnWidth(1, 400)
        self.answers.currentItemChanged.connect(lambda *_: self._chosen())
        self.answers.itemDoubleClicked.connect(lambda *_: self.show_way())
        self.empty = EmptyHint(self.answers, ASKS, (("Study", self.start),))
        self.way = QPlainTextEdit()
        self.way.setReadOnly(True)
        self.way.setFont(code_font(12))
        self.way.setAccessibleName("The way there")
        self.show_button = QPushButton("Show on the bench")
        self.show_button.clicked.connect(self.show_way)
        self._arrange()
        document.changed.connect(self.refresh)
        self.refresh()

    def _arrange(self) -> None:
        top = QHBoxLayout()
        top.setContentsMargins(12, 6, 12, 4)
        top.setSpacing(8)
        for w in (self.start_button, self.cancel_button):
            top.addWidget(w)
        top.addWidget(self.status, 1)
        for w in (self.keep_button, self.show_button):
            top.addWidget(w)
        low = QHBoxLayout()
        low.addWidget(self.fault, 1)
        low.addWidget(self.rows_button)
        low.addWidget(self.stored_button)
        low.addWidget(self.apply_button)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(12, 4, 6, 8)
        head = TextLabel("Assumed and asked")
        head.setStyleSheet("font-weight: 600")
        column.addWidget(head)
        column.addWidget(self.text, 3)
        column.addWidget(self.both)
        column.addLayout(low)
        column.addWidget(self.limits, 2)
        right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(self.answers)
        right.addWidget(self.way)
        right.setSizes([420, 160])
        both = QSplitter()
        both.addWidget(left)
        both.addWidget(right)
        both.setSizes([380, 880])
        both.setStretchFactor(1, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(top)
        whole.addWidget(both, 1)

    # -- what is shown

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        if self._stale:
            self.refresh()

    def refresh(self) -> None:
        """Follows the document; out of sight only when it is looked at again."""
        self._stale = not self.isVisible()
        if self._stale:
            return
        self.text.setPlaceholderText(examples(self.document.project))
        wanted = print_plan(self.document.project.study)
        draft = self.document.drafts.of("study")
        if draft is not None:
            wanted = draft.text
        self.both.show_other(print_plan(self.document.project.study) if draft and self._moved(draft.base) else None)
        same = parse_plan(self.document.project, self.text.toPlainText())[0] == self.document.project.study
        if self.text.toPlainText() != wanted and (draft is not None or not same):
            self.text.setPlainText(wanted)
        self._look_at_text()
        self._show_answers()

    def _moved(self, base: str) -> bool:
        """Whether the file asks something else than when the text was begun."""
        return parse_plan(self.document.project, base)[0] != self.document.project.study

    def of_present(self) -> bool:
        """Whether the answers are about the machine file as it is."""
        return self._of is not None and not self._changed()

    def _changed(self) -> tuple[str, ...]:
        """What the answers depend on and has changed since."""
        if self._of is None or self._of is self.document.project:
            return ()
        return changed(study_basis(self._of), study_basis(self.document.project))

    def _show_answers(self) -> None:
        running, found = self.elsewhere.busy, self.found
        self.start_button.setEnabled(not running)
        self.cancel_button.setVisible(running)
        if found is not None and not self.of_present():
            self.status.say(f"Studied before the change of {told(self._changed())}: study it again.", "false")
        elif found is not None:
            bad = sum(a.says is Says.BAD for a in found.answers)
            text = f"{found.situations:,} situations in {found.seconds:.2f} s; "
            said = f"{bad} of {len(found.answers)} answers are bad" if bad else "nothing bad is found"
            self.status.say(text + said, "late" if bad else "true")
        elif not running and (known := self.document.ledger.work.get("study")) is not None:
            self.status.say(known.words(self.document.project), "ink")
        elif not running and not self.status.text():
            self.status.say("Inputs free, times free", "ink")
        self.empty.show_while(found is None and not running)
        self.answers.clear()
        for a in found.answers if found is not None else ():
            sign, colour, word = SIGNS[a.says]
            item = QTreeWidgetItem([f"{sign} {word}", f"{HEADS[a.kind]}: {a.about}", a.text])
            item.setForeground(0, theme.colour(colour))
            for column in (1, 2):
                item.setToolTip(column, plain(item.text(column)))
            self.answers.addTopLevelItem(item)
        answers = found.answers if found is not None else ()
        first = next((n for n, a in enumerate(answers) if a.says is not Says.GOOD), 0)
        chosen = self.answers.topLevelItem(first)
        if chosen is not None:
            self.answers.setCurrentItem(chosen)
        lines = "".join(f"<li>{escape(x)}</li>" for x in found.limits) if found is not None else ""
        self.limits.setText(f"<b>What this rests on</b><ul style='margin-left:-24px'>{lines}</ul>" if lines else "")
        self._chosen()

    def chosen(self) -> Answer | None:
        item = self.answers.currentItem()
        row = self.answers.indexOfTopLevelItem(item) if item is not None else -1
        return self.found.answers[row] if self.found is not None and 0 <= row < len(self.found.answers) else None

    def _chosen(self) -> None:
        answer = self.chosen()
        way = answer.way if answer is not None else None
        words = ""
        if answer is not None and answer.says is not Says.GOOD:
            words = f"// {answer.text}\n{way.text if way is not None else ''}"
        self.way.setPlainText(words)
        self.way.setVisible(bool(words))
        self.show_button.setEnabled(way is not None and self.of_present())
        ways = self.found.answers if self.found is not None else ()
        self.keep_button.setEnabled(self.of_present() and any(a.way is not None and a.way.replays for a in ways))

    # -- what is asked

    def _typed(self) -> None:
        base = print_plan(self.document.project.study)
        self.document.drafts.put("study", base, self.text.toPlainText(), self.apply_text)
        self._look_at_text()

    def _look_at_text(self) -> None:
        plan, problems = parse_plan(self.document.project, self.text.toPlainText())
        self.fault.setText("\n".join(f"Line {p.line}: {p.message}" for p in problems[:3]))
        self.apply_button.setEnabled(not problems and plan != self.document.project.study)

    def take_rows(self) -> None:
        """Writes what scenarios say must never be below the lines; it is taken into the file by *Apply*, or when the study begins."""
        self._add(of_scenarios(self.document.project), "There is no never, always or while row that is not asked yet.")

    def ask_stored(self) -> None:
        """Writes a line for everything that steps store: that it is off in the initial step."""
        self._add(of_stored(self.document.project), "No step stores anything that is not asked yet.")

    def _add(self, lines: Iterable[str], none: str) -> None:
        """Writes lines below those that stand there, without those that do already; `none` is told where there is no other."""
        text = self.text.toPlainText()
        there = {line.strip() for line in text.splitlines()}
        new = [line for line in map(said, lines) if line not in there]
        if new:
            self.text.setPlainText("\n".join([*([text.rstrip()] if text.strip() else []), *new]))
        else:
            self.fault.setText(none)

    def apply_text(self) -> bool:
        """Takes what is assumed and asked into the machine file; FALSE where it is wrong."""
        plan, problems = parse_plan(self.document.project, self.text.toPlainText())
        if problems:
            return False
        self.document.drafts.drop("study")
        if plan == self.document.project.study:
            return True
        return self.document.edit("Change the study", lambda p: replace(p, study=plan))

    # -- the study

    def start(self) -> None:
        """Studies the machine file as it is, in a process."""
        if self.elsewhere.busy or not self.apply_text():
            return
        self._of, self.found = self.document.project, None
        self.status.say("it is studied", "ink")
        self.elsewhere.ask(self._take, answers_of, self._of)
        self._show_answers()

    def take(self, found: Study, project: Project) -> None:
        """Shows answers that were found elsewhere about this machine file."""
        self._of, self.found = project, found
        self._keep()
        self._show_answers()

    def stop(self) -> None:
        """Waits no longer for the answers."""
        if self.elsewhere.busy:
            self.elsewhere.forget()
            self.status.say("cancelled", "ink")
            self._show_answers()

    def _take(self, found: Study | str) -> None:
        if isinstance(found, str):
            self.status.say(f"Cannot be studied. {found}", "late")
        else:
            self.found = found
            self._keep()
        self._show_answers()

    def _keep(self) -> None:
        """What came of it goes beside the file when that is saved."""
        if self.found is not None and self._of is not None:
            bad = sum(a.says is Says.BAD for a in self.found.answers)
            said = f"{bad} of {len(self.found.answers)} answers bad" if bad else "nothing bad was found"
            basis, today = study_basis(self._of), datetime.date.today().isoformat()
            self.document.ledger.work["study"] = Work("study", said, tuple(basis.items()), on=today)

    def keep(self) -> bool:
        found = self.found
        return found is not None and self.document.edit("Keep the ways", lambda p: with_ways(p, found))

    def show_way(self) -> None:
        """The way to what is bad, played on the bench."""
        answer = self.chosen()
        if answer is None or answer.way is None or not self.of_present():
            return
        way, project = answer.way, self.document.project
        run = Run("", (), project, way.done, -(-way.end_ms // project.period_ms))
        self.show_asked.emit(run, answer.text, max(0, way.end_ms - project.period_ms))
