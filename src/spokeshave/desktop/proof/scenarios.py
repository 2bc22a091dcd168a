"""The scenarios: a list with verdicts, the chosen one as rows or as text, and the way to a place in its run."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QTabBar,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.both_bar import BothBar
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.proof.proposals import ProposalsDialog
from spokeshave.desktop.proof.rows import BECAUSE, SIGNS, RowsModel, RowsView, sign_colour
from spokeshave.desktop.seen import Waiting
from spokeshave.desktop.theme import code_font, theme
from spokeshave.language.scenario_print import format_scenario
from spokeshave.model import edits
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.expectations import Outcome, Verdict
from spokeshave.verify.junit import NEVER_DONE
from spokeshave.verify.ledger import Standing
from spokeshave.verify.proposed.work import Proposals, proposed
from spokeshave.verify.scenario_language import scenario_problems
from spokeshave.verify.scenarios import Result, Run

NEW_TEXT = "// What is done, then what is expected\nat 500 ms: press Start\nrun for 30 s\nexpect no alarms\n"
ALL = "all groups"


class ScenariosPanel(QWidget):
    """`show_asked` carries a run, the name of its scenario and a time in ms of the run to look at on the bench."""

    show_asked = Signal(object, str, int)
    chosen = Signal()

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self._loading = False
        self._shown = Waiting(self, self.show_current)
        self.group = QComboBox()
        self.group.setAccessibleName("Group shown")
        self.group.currentIndexChanged.connect(self._filter)
        self.list = QListWidget()
        self.list.setAccessibleName("Scenarios")
        self.list.currentRowChanged.connect(lambda _: self._shown.come())
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the scenario")
        self.name.editingFinished.connect(self._rename)
        self.group_name = QLineEdit()
        self.group_name.setAccessibleName("Group of the scenario")
        self.group_name.setPlaceholderText("group")
        self.group_name.setMaximumWidth(130)
        self.group_name.editingFinished.connect(self._regroup)
        self.cases = QComboBox()
        self.cases.setAccessibleName("Run of the lists")
        self.cases.currentIndexChanged.connect(self._show_rows)
        self.faces = QTabBar()
        self.faces.setAccessibleName("Rows or text")
        self.faces.addTab("Rows")
        self.faces.addTab("Text")
        self.faces.currentChanged.connect(self._face)
        self.rows = RowsModel()
        self.rows.edited.connect(self._take_text)
        self.view = RowsView(self.rows)
        self.view.doubleClicked.connect(lambda i: self.show_row(i.row()) if i.column() > 1 else None)
        self.text = QPlainTextEdit()
        self.text.setFont(code_font(13))
        self.text.setAccessibleName("Text of the scenario")
        self.text.textChanged.connect(self._look_at_text)
        self.both = BothBar(self.text, self.apply_text)
        self.fault = TextLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.apply = QPushButton("Apply")
        self.apply.clicked.connect(self.apply_text)
        self.show_button = QPushButton("Show on the bench")
        self.before = TextLabel()
        self.before.setObjectName("fault")
        self.before.setMargin(4)
        self.before.hide()
        self.show_button.clicked.connect(lambda: self.show_row(self.view.currentIndex().row()))
        self._arrange()
        document.changed.connect(self.refresh)
        document.proven.connect(self.refresh)
        self.refresh()
        self.list.setCurrentRow(0)

    def _arrange(self) -> None:
        add, remove = QPushButton("Add a scenario"), QPushButton("Delete")
        self.propose_button = QPushButton("Propose scenarios ...")
        self.propose_button.setToolTip("Looks for runs that show every way and every rule that no scenario shows yet")
        self.propose_button.clicked.connect(self.propose)
        add.clicked.connect(self.add)
        remove.clicked.connect(self.remove)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(8, 4, 0, 6)
        column.addWidget(self.group)
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        row.addWidget(add, 1)
        row.addWidget(remove)
        column.addLayout(row)
        column.addWidget(self.propose_button)
        head = QHBoxLayout()
        head.setContentsMargins(0, 4, 8, 0)
        for widget, stretch in (
            (self.name, 1),
            (self.group_name, 0),
            (self.cases, 0),
            (self.faces, 0),
            (self.show_button, 0),
        ):
            head.addWidget(widget, stretch)
        typed = QWidget()
        page = QVBoxLayout(typed)
        page.setContentsMargins(0, 0, 0, 0)
        page.addWidget(self.text, 1)
        page.addWidget(self.both)
        low = QHBoxLayout()
        low.setContentsMargins(0, 0, 8, 4)
        low.addWidget(self.fault, 1)
        low.addWidget(self.apply)
        page.addLayout(low)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.view)
        self.stack.addWidget(typed)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(head)
        column.addWidget(self.before)
        column.addWidget(self.stack, 1)
        both = QSplitter()
        both.addWidget(left)
        both.addWidget(right)
        both.setSizes([240, 800])
        both.setStretchFactor(1, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(both)
        self.empty = EmptyHint(self.view, "A scenario says what is done to the machine and what is expected of it. "
                               "What is done on the bench can be kept as one too.", (("Add a scenario", self.add),
                                ("Propose scenarios ...", self.propose)))  # fmt: skip

    # -- proposals

    def propose(self) -> None:
        """Looks for what no scenario shows, beside the work, and lists what it found."""
        self.document.in_process("Looks for what no scenario shows", self._proposed, proposed, self.document.project)

    def _proposed(self, found: Proposals | str) -> None:
        if isinstance(found, str):
            self.document.refused.emit(f"Nothing can be proposed yet. {found}")
            return
        self.proposals = ProposalsDialog(self.document, found, self.window())
        self.proposals.show_asked.connect(self.show_asked)
        self.proposals.show()

    # -- what is shown

    @property
    def scenario(self) -> Scenario | None:
        row = self.list.currentRow()
        known = self.document.project.scenarios
        return known[row] if 0 <= row < len(known) else None

    def result(self) -> Result | None:
        """The last result; one that no longer holds is kept until the scenario is run again."""
        if self.scenario is None:
            return None
        name = self.scenario.name
        return self.document.results.get(name) or self.document.ledger.earlier.get(name)

    def run(self) -> Run | None:
        """The run of the result that is shown."""
        result = self.result()
        if result is None or not result.runs:
            return None
        return result.runs[max(0, min(self.cases.currentIndex(), len(result.runs) - 1))]

    def of_group(self) -> list[Scenario]:
        """The scenarios of the chosen one's group."""
        scenario = self.scenario
        return [s for s in self.document.project.scenarios if scenario and s.group == scenario.group]

    def refresh(self) -> None:
        """Follows the document and the results."""
        project = self.document.project
        self.empty.show_while(not project.scenarios)
        row = max(0, self.list.currentRow())
        self._loading = True
        self.list.clear()
        for s in project.scenarios:
            known = self.document.ledger.standing.get(s.name)
            outcome = known.proof.outcome if known is not None and known.holds else None
            item = QListWidgetItem(f"{SIGNS[outcome] if outcome else '◌' if known else '○'}  {s.name}")
            item.setForeground(sign_colour(outcome) if outcome else theme.colour("false" if known else "ink"))
            group = f"{s.group}; " if s.group else ""
            told = f"\n{known.words}" if known is not None else ""
            item.setToolTip(plain(f"{s.name}\n{group}shows {', '.join(s.shows) or 'no requirement'}{told}"))
            self.list.addItem(item)
        groups = [ALL, *dict.fromkeys(s.group for s in project.scenarios if s.group)]
        if groups != [self.group.itemText(i) for i in range(self.group.count())]:
            before = self.group.currentText()
            self.group.clear()
            self.group.addItems(groups)
            self.group.setCurrentIndex(max(0, self.group.findText(before)))
        self.group.setVisible(len(groups) > 1)
        self._loading = False
        self.list.setCurrentRow(min(row, len(project.scenarios) - 1))
        self._filter()
        self._shown.come()

    def _filter(self) -> None:
        wanted = self.group.currentText()
        for i, s in enumerate(self.document.project.scenarios):
            item = self.list.item(i)
            if item is not None:
                item.setHidden(wanted not in ("", ALL) and s.group != wanted)

    def show_current(self) -> None:
        """The chosen scenario with its verdicts."""
        if self._loading:
            return
        scenario, result = self.scenario, self.result()
        draft = self.document.drafts.of(f"scenario {scenario.name}") if scenario else None
        wanted = draft.text if draft else scenario.text if scenario else ""
        self.both.show_other(scenario.text if scenario and draft and draft.base != scenario.text else None)
        self._loading = True
        if self.text.toPlainText() != wanted:
            self.text.setPlainText(wanted)
        self.name.setText(scenario.name if scenario else "")
        self.group_name.setText(scenario.group if scenario else "")
        self.cases.clear()
        for run in result.runs if result else ():
            self.cases.addItem(f"{SIGNS[run.outcome]} {run.label}")
        if result is not None and result.worst_run is not None:
            self.cases.setCurrentIndex(result.runs.index(result.worst_run))
        self.cases.setVisible(self.cases.count() > 1)
        self._loading = False
        self._show_rows()
        self._look_at_text()
        self.chosen.emit()

    def _show_rows(self) -> None:
        if self._loading:
            return
        scenario, run, result = self.scenario, self.run(), self.result()
        text = scenario.text if scenario else ""
        problems = scenario_problems(self.document.project, scenario) if scenario else ()
        verdicts = run.verdicts if run else ()
        if result is not None:
            verdicts += tuple(Verdict(n, row, Outcome.NOT_REACHED, -1, NEVER_DONE) for n, row in result.undone)
        old = scenario is not None and run is not None and scenario.name not in self.document.results
        if old and result is not None and scenario is not None and result.scenario.text != scenario.text:
            verdicts = ()  # of other rows
        known = self.document.ledger.standing.get(scenario.name) if scenario is not None else None
        self._say_standing(known, run is not None)
        row = self.view.currentIndex().row()
        self.rows.show_scenario(self.document.project, text, verdicts, problems)
        bad = next((v.line - 1 for v in verdicts if v.outcome is not Outcome.PASS), -1)
        if bad >= 0:
            self.view.go_to(bad, BECAUSE)
        elif row >= 0:
            self.view.go_to(row)
        self.show_button.setEnabled(run is not None)

    def _say_standing(self, known: Standing | None, has_run: bool) -> None:
        """Above the rows, what is known of a verdict that is not of a run that is here."""
        words = ""
        if known is not None and not known.holds:
            words = f"{known.words[:1].upper()}{known.words[1:]}: run it again."
            words += " The run of then can still be shown on the bench." if has_run else ""
        elif known is not None and not has_run:
            words = (
                f"{known.words[:1].upper()}{known.words[1:]}; nothing it depends on has changed. Run it to look at it."
            )
        self.before.setText(words)
        self.before.setToolTip(plain("\n".join(known.changed)) if known is not None else "")
        self.before.setVisible(bool(words))

    def _look_at_text(self) -> None:
        """Says at once what is wrong with the text as typed."""
        scenario = self.scenario
        if scenario is None or self._loading:
            return
        text = self.text.toPlainText()
        place, name = f"scenario {scenario.name}", scenario.name
        self.document.drafts.put(place, scenario.text, text, lambda: self._take_draft(name))
        problems = scenario_problems(self.document.project, Scenario(scenario.name, text))
        self.fault.setText(
            "\n".join(f"Row {p.line}: {p.message}" + (f"; {p.advice}" if p.advice else "") for p in problems[:3])
        )
        self.apply.setEnabled(text != scenario.text)

    def _face(self, index: int) -> None:
        if index == 0:
            self.apply_text()
        self.stack.setCurrentIndex(index)

    # -- edits

    def apply_text(self) -> None:
        """Takes what was typed as text."""
        if self.text.toPlainText() != (self.scenario.text if self.scenario else ""):
            self._take_text(self.text.toPlainText())

    def _take_text(self, text: str) -> None:
        if self.scenario is not None:
            self.document.drafts.drop(f"scenario {self.scenario.name}")
        self._change("Change", text=text)

    def _take_draft(self, name: str) -> None:
        """Takes over what was typed of a scenario, which need not be the one that is shown."""
        draft = self.document.drafts.of(f"scenario {name}")
        index = next((i for i, s in enumerate(self.document.project.scenarios) if s.name == name), -1)
        if draft is not None and index >= 0:
            self.document.drafts.drop(draft.place)
            self.document.edit(f"Change {name}", lambda p: edits.change_item(p, "scenarios", index, text=draft.text))

    def _change(self, what: str, **changes: str) -> bool:
        row, scenario = self.list.currentRow(), self.scenario
        if scenario is None:
            return False
        return self.document.edit(
            f"{what} {scenario.name}", lambda p: edits.change_item(p, "scenarios", row, **changes)
        )

    def _rename(self) -> None:
        scenario, new = self.scenario, self.name.text().strip()
        if scenario is None or new == scenario.name:
            return
        row = self.list.currentRow()

        def change(p: Project) -> Project:
            if not new:
                raise EditError("a scenario needs a name")
            if any(s.name.lower() == new.lower() for i, s in enumerate(p.scenarios) if i != row):
                raise EditError(f"there is a scenario {new} already")
            accepted = tuple(replace(a, scenario=new) if a.scenario == scenario.name else a for a in p.accepted)

            def now(name: str) -> str:
                return new if name == scenario.name else name

            sweep = replace(p.sweep, cycle=now(p.sweep.cycle), reset=now(p.sweep.reset))
            return replace(edits.change_item(p, "scenarios", row, name=new), accepted=accepted, sweep=sweep)

        draft = self.document.drafts.of(f"scenario {scenario.name}")
        if draft is not None:
            self.document.drafts.rename(draft.place, f"scenario {new}")
        if not self.document.edit(f"Rename {scenario.name}", change):
            self.name.setText(scenario.name)
            if draft is not None:
                self.document.drafts.rename(f"scenario {new}", draft.place)

    def _regroup(self) -> None:
        if self.scenario is not None and self.group_name.text().strip() != self.scenario.group:
            self._change("Group", group=self.group_name.text().strip())

    def tidy(self) -> None:
        """Writes the rows in their usual form."""
        self.apply_text()
        if self.scenario is not None and format_scenario(self.scenario.text) != self.scenario.text:
            self._change("Tidy", text=format_scenario(self.scenario.text))

    def add(self) -> None:
        taken = {s.name.lower() for s in self.document.project.scenarios}
        new = Scenario(edits.free_name("Scenario", taken), NEW_TEXT)

        def change(p: Project) -> Project:
            return edits.add_item(p, "scenarios", new)

        if self.document.edit(f"Add {new.name}", change):
            self.list.setCurrentRow(self.list.count() - 1)
            self.name.setFocus()
            self.name.selectAll()

    def remove(self) -> None:
        row = self.list.currentRow()
        if self.scenario:
            name = self.scenario.name
            self.document.edit(f"Delete {name}", lambda p: edits.remove_item(p, "scenarios", row))

    # -- the way to the bench

    def show_row(self, row: int) -> None:
        """The run at the place that decided a row, or at its start."""
        run = self.run()
        if run is not None and self.scenario is not None:
            verdict = self.rows.verdicts.get(row + 1)
            self.show_asked.emit(run, self.scenario.name, run.start_ms + max(0, verdict.time_ms if verdict else 0))
