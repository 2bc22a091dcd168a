"""The code face: generated case-state code, or a body, edited as text and read back into the same model."""

from __future__ import annotations

import re

from PySide6.QtCore import QTimer
from PySide6.QtGui import QKeySequence, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QSizePolicy,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.code_editor import CodeEditor, Fault
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.sequence.chart_small import HEIGHT, BeforeAfter
from spokeshave.desktop.sequence.code_changes import Difference, looked_at
from spokeshave.desktop.sequence.code_proof import CodeProof
from spokeshave.desktop.sequence.code_values import values_in, waits_on
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.desktop.sequence.live import Live
from spokeshave.desktop.theme import code_font, theme
from spokeshave.engine.link import link_problems
from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.engine.text_faults import statement_problems
from spokeshave.formats.code.write import generate
from spokeshave.formats.errors import FormatError
from spokeshave.model.diagnostics import Place, errors
from spokeshave.model.edits import EditError, edit_sequence
from spokeshave.model.project import Project, Sequence
from spokeshave.model.text_edits import put_body

STYLES = {
    "Plain, one CASE": "plain",
    "Phase by phase, a CASE for each thread": "case",
    "Phase by phase, a flag for each step": "flags",
}
LOOK_AFTER_MS = 350
_LABEL = re.compile(r"\(\* (\w+)(?: to .*|: .*)? \*\)")


class CodeFace(QWidget):
    """The text on top, what applying it would change below."""

    def __init__(self, editor: SequenceEditor, name: str, runner: Runner) -> None:
        super().__init__()
        self.setProperty("manual", "from-your-case-program#And back")
        self.editor, self.document, self.name, self.runner = editor, editor.document, name, runner
        self.live = Live()
        self.project: Project | None = None
        """The machine file that the text shows."""
        self.shown = ""
        """The text as it was made."""
        self.choice = QComboBox()
        self.choice.setAccessibleName("What the code shows")
        self.choice.setMinimumWidth(200)
        self.text = CodeEditor(f"Code of {name}")
        self.note = TextLabel()
        self.note.setObjectName("hint")
        self.note.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.apply_button, self.restore_button = QPushButton("Apply ..."), QPushButton("Restore")
        self.apply_button.setObjectName("primary")
        self.apply_button.setShortcut(QKeySequence("Ctrl+Return"))
        self.apply_button.setToolTip("List what the text changes, then take it over (Ctrl+Return)")
        self.restore_button.setToolTip("Throw away what was typed")
        self.list = QTreeWidget()
        self.list.setAccessibleName("What applying changes")
        self.list.setHeaderLabels(["Where", "Now", "Then"])
        self.list.setRootIsDecorated(False)
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.list.header().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.list.header().setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        self.list.setMaximumHeight(HEIGHT)
        self.list.itemActivated.connect(self._go)
        self.list.hide()
        self.charts = BeforeAfter()
        self.charts.hide()
        bar = QHBoxLayout()
        bar.setContentsMargins(8, 4, 8, 4)
        bar.setSpacing(8)
        bar.addWidget(self.choice)
        bar.addWidget(self.note, 1)
        bar.addWidget(self.restore_button)
        bar.addWidget(self.apply_button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(bar)
        column.addWidget(self.text, 1)
        below = QHBoxLayout()
        below.setSpacing(0)
        below.addWidget(self.list, 4)
        below.addWidget(self.charts, 2)
        column.addLayout(below)
        self.proof = CodeProof(self.document, lambda: self._chosen()[1] if self._chosen()[0] == "style" else "plain")
        column.addWidget(self.proof)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(LOOK_AFTER_MS)
        self._later.timeout.connect(self.look)
        self._pending: tuple[Project, list[Difference]] | None = None
        self._follows = False
        self.choice.currentIndexChanged.connect(lambda _: self.restore())
        self.text.textChanged.connect(self._typed)
        self.text.moved.connect(self._tell_selection)
        self.text.verticalScrollBar().valueChanged.connect(lambda _: self.follow_run())
        self.apply_button.clicked.connect(self.apply)
        self.restore_button.clicked.connect(self.give_up)
        self.document.changed.connect(self.refresh)
        self.document.checked.connect(self.take_findings)
        editor.selection.changed.connect(self._follow_selection)
        runner.advanced.connect(self.follow_run)
        self.setFocusProxy(self.text)

    # -- what is shown

    @property
    def sequence(self) -> Sequence | None:
        return self.document.project.sequence(self.name)

    def _chosen(self) -> tuple[str, str]:
        """`style` and its name, or `body` and the name of a body."""
        data = self.choice.currentData()
        return (str(data[0]), str(data[1])) if data else ("style", "plain")

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()
        self._follow_selection()
        self.follow_run()

    def refresh(self) -> None:
        """Follows the document, unless something was typed that is not applied yet: that is never lost."""
        if not self.isVisible() or self.project is self.document.project:
            return
        q = self.sequence
        bodies = [b.name for b in q.bodies] if q is not None else []
        choices = [(t, ("style", s)) for t, s in STYLES.items()] + [(f"Body {b}", ("body", b)) for b in bodies]
        if [self.choice.itemText(i) for i in range(self.choice.count())] != [t for t, _ in choices]:
            before = self.choice.currentText()
            self.choice.blockSignals(True)
            self.choice.clear()
            for title, data in choices:
                self.choice.addItem(title, data)
            self.choice.setCurrentIndex(max(0, self.choice.findText(before)))
            self.choice.blockSignals(False)
        if self.typed:
            self.note.setText("The machine file has changed since. Restore shows it, Apply reads this text into it.")
            return
        self.restore()

    @property
    def typed(self) -> bool:
        """Whether something was typed that is not applied."""
        return self.text.toPlainText() != self.shown

    @property
    def place(self) -> str:
        """What a text typed here is a draft of."""
        return f"code {self.name}/{self.choice.currentText()}"

    def give_up(self) -> None:
        """Throws away what was typed."""
        self.document.drafts.drop(self.place)
        self.restore()

    def restore(self) -> None:
        """Shows the machine file's own text, or what was typed in its place and is not applied yet."""
        kind, name = self._chosen()
        project, q = self.document.project, self.sequence
        self.project = project
        fault = ""
        try:
            if kind == "body":
                made = next((b.text for b in q.bodies if b.name == name), "") if q is not None else ""
            elif bad := errors(link_problems(project)):
                made, fault = "", f"There is no code while the machine file cannot run: {bad[0]}"
            else:
                made = generate(project, name).text
        except FormatError as error:
            made, fault = "", f"{error}. Try {'the chart' if name == 'flags' else 'a flag for each step'}."
        at, line = self.text.verticalScrollBar().value(), self.text.line
        self.shown = made
        self._follows = True
        draft = None if fault else self.document.drafts.of(self.place)
        self.text.setPlainText(made if draft is None else draft.text)
        self.text.go_to(line)
        self.text.verticalScrollBar().setValue(at)
        self._follows = False
        self.text.setReadOnly(bool(fault))
        self.text.set_words([*TextScope(SlotTable(project), q).known()])
        self.text.offers = self._states if kind == "style" else None
        self._forget()
        changed = "The machine file has changed since. Restore shows it, Apply reads this text into it."
        self.note.setText(fault or (self._hint(kind, name) if draft is None or draft.base == made else changed))
        self.note.setStyleSheet(f"color: {theme.now.late};" if fault else "")
        self.text.mark_lines({})
        self.live = Live()
        self.follow_run()
        self.take_findings()

    @staticmethod
    def _hint(kind: str, name: str) -> str:
        if kind == "body":
            return "Runs in every scan in which the action is on"
        if name == "plain":
            return "States, where they lead, outputs, bodies and logic can be changed here"
        return "Conditions, bodies and logic can be changed here"

    def _forget(self) -> None:
        self._later.stop()
        self._pending = None
        self.list.hide()
        self.charts.hide()
        self.text.show_faults([])
        changed = self.typed
        self.apply_button.setText("Apply ...")
        self.apply_button.setEnabled(changed)
        self.restore_button.setEnabled(changed)

    # -- typing

    def _typed(self) -> None:
        if not self._follows:
            self.document.drafts.put(self.place, self.shown, self.text.toPlainText())
            self._forget()
            self._later.start()

    def look(self) -> bool:
        """Reads the text; shows what is wrong with it, or what it changes. TRUE if it can be applied."""
        kind, name = self._chosen()
        text, project = self.text.toPlainText(), self.document.project
        faults: list[Fault] = []
        shown: list[Fault] = []
        if kind == "body":
            faults = [
                Fault(p.line, p.column, f"{p.message}{'; ' if p.advice else ''}{p.advice}")
                for p in statement_problems(project, self.sequence, text)
            ]
            if not faults:
                old = next((b.text for b in self.sequence.bodies if b.name == name), "") if self.sequence else ""
                after = edit_sequence(project, self.name, lambda q: put_body(q, name, text))
                self._pending = (
                    after,
                    [Difference(Place("body", self.name, name), old, text)] if after is not project else [],
                )
        else:
            looked = looked_at(text, project, name, bool(self.typed))
            self._pending = looked.pending
            faults = [Fault(p.line, p.column, f"{p.message}{'; ' if p.advice else ''}{p.advice}") for p in looked.wrong]
            shown = [Fault(p.line, p.column, f"{p.message}; {p.advice}") for p in looked.doubts]
        self.text.show_faults(faults or shown)
        if faults:
            f = faults[0]
            more = f" (and {len(faults) - 1} more)" if len(faults) > 1 else ""
            self.note.setText(f"line {f.line}, column {f.column}: {f.message}{more}")
            self.note.setToolTip(plain(self.note.text()))
            self.note.setStyleSheet(f"color: {theme.now.late};")
            return False
        assert self._pending is not None
        count = len(self._pending[1])
        self.note.setStyleSheet("")
        self.note.setText(
            (f"{count} change{'s' if count != 1 else ''} to apply" if count else "Says the same as the machine file")
            + "".join(f"; line {f.line}: {f.message}" for f in shown[:1])
        )
        return True

    def apply(self) -> None:
        """First lists what differs; asked again, takes it over in one edit. A text with a fault changes nothing."""
        if self._pending is None and not self.look():
            f = self.text.faults[0]
            self.text.go_to(f.line, f.column)
            self.text.setFocus()
            return
        assert self._pending is not None
        if not self.list.isVisible():
            self._list(self._pending[1])
            return
        after, found = self._pending

        def change(project: Project) -> Project:
            if project is not self.document.project:
                raise EditError("the machine file has changed meanwhile; apply once more")
            return after

        self.shown = self.text.toPlainText()
        self.document.drafts.drop(self.place)
        count = len(found)
        self.document.edit(f"Apply {count} change{'s' if count != 1 else ''} of the code", change)
        self.restore()

    def _list(self, found: list[Difference]) -> None:
        self.list.clear()
        for d in found:
            item = QTreeWidgetItem([str(d.place), " ".join(d.old.split()), " ".join(d.new.split())])
            for column in (1, 2):
                item.setFont(column, code_font())
                item.setToolTip(column, plain((d.old, d.new)[column - 1]))
            item.setForeground(1, theme.colour("faint"))
            self.list.addTopLevelItem(item)
        if not found:
            self.list.addTopLevelItem(QTreeWidgetItem(["Nothing differs but blanks and comments", "", ""]))
        self.list.show()
        after = self._pending[0] if self._pending is not None else self.document.project
        name = self.sequence.name if self.sequence is not None else ""
        then = after.sequence(name) or (after.sequences[0] if len(after.sequences) == 1 else None)
        self.charts.show_both(self.sequence, then)
        count = len(found)
        self.apply_button.setText(f"Take over {count} change{'s' if count != 1 else ''}" if count else "Done")

    def _go(self, item: QTreeWidgetItem) -> None:
        if self._pending is not None:
            index = self.list.indexOfTopLevelItem(item)
            if index < len(self._pending[1]):
                self.editor.selection.set(self._pending[1][index].place)

    def _states(self, before: str) -> list[tuple[str, str]]:
        """The states, where the text before the cursor asks for one: as they are offered, and what is written."""
        for q in self.document.project.sequences:
            if re.search(rf"\b{q.name}\w*\s*(?::=|=|<>)\s*\w*$", before, re.IGNORECASE):
                return [(f"{s.number} {s.name}", str(s.number)) for s in q.steps]
        return []

    # -- steps

    def lines_of(self) -> dict[str, int]:
        """The line at which each step of this sequence stands, from 1."""
        q = self.sequence
        found: dict[str, int] = {}
        if q is None or self._chosen()[0] == "body":
            return {}
        names = {s.name for s in q.steps}
        begun = False
        for n, line in enumerate(self.text.toPlainText().splitlines(), 1):
            begun = begun or f"evolution of {q.name}" in line or f"CASE {q.name} OF" in line
            m = _LABEL.search(line) if begun else None
            if m and m[1] in names:
                found.setdefault(m[1], n)
        return found

    def _tell_selection(self, line: int) -> None:
        """The step whose lines the cursor has gone into is selected everywhere."""
        if self._follows or not self.text.hasFocus():
            return
        before = [(n, step) for step, n in self.lines_of().items() if n <= line]
        if before:
            self._follows = True
            self.editor.selection.set(Place("step", self.name, max(before)[1]))
            self._follows = False

    def _follow_selection(self) -> None:
        p = self.editor.selection.place
        if self._follows or not self.isVisible() or p.sequence.lower() != self.name.lower():
            return
        if p.kind == "body":
            index = self.choice.findText(f"Body {p.item}")
            if index >= 0 and not self.typed:
                self.choice.setCurrentIndex(index)
            return
        line = self.lines_of().get(self.editor.step())
        if line is not None:
            self._follows = True
            self.text.go_to(line)
            self._follows = False

    def take_findings(self) -> None:
        """Notes at the lines of the steps that findings are about."""
        if not self.isVisible():
            return
        lines, notes, q = self.lines_of(), {}, self.sequence
        for d in self.document.findings if q is not None else ():
            p = d.place
            if q is None or p.sequence.lower() != self.name.lower() or d.severity == "advice":
                continue
            step = (
                q.transitions[p.index].sources[-1]
                if p.kind == "transition" and p.index < len(q.transitions)
                else p.step
            )
            if step in lines:
                notes[lines[step]] = d.message
        self.text.note_lines(notes)

    def follow_run(self) -> None:
        """Marks the lines of active steps, and writes values behind the lines that are in sight."""
        if not self.isVisible():
            return
        changed = self.live.read(self.runner, self.name)
        lines = self.lines_of()
        awaited = {lines[s]: waits_on(w) for s, w in self.live.waiting.items() if s in lines}
        self.text.show_values(values_in(self.runner, self.text.lines_in_sight()), awaited)
        if changed:
            states = {"late": "late", "tripped": "late", "held": "held"}
            self.text.mark_lines(
                {lines[s]: states.get(w.state, "active") for s, w in self.live.waiting.items() if s in lines}
            )
