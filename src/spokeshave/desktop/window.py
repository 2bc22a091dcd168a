"""The one window: ribbon, run cluster, waiting line, six stages, outline, details, lists below."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import cast

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QSplitter,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.bench.commands import BenchCommands
from spokeshave.desktop.bench.page import BenchPage
from spokeshave.desktop.bench.timing_diagram import TimingStrip
from spokeshave.desktop.brief.page import BriefPage
from spokeshave.desktop.command_list import command_list
from spokeshave.desktop.commands import CommandTable
from spokeshave.desktop.details import Details
from spokeshave.desktop.disk_bar import DiskBar
from spokeshave.desktop.document import Document
from spokeshave.desktop.files import FileWindow
from spokeshave.desktop.finder import Finder
from spokeshave.desktop.findings import FindingsList
from spokeshave.desktop.kept_edits import Keeper, RecoveryBar
from spokeshave.desktop.machine_board.page import MachinePage
from spokeshave.desktop.outline import Outline
from spokeshave.desktop.place_lists import AlarmList
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.preferences import Preferences
from spokeshave.desktop.printing import Printing
from spokeshave.desktop.program_commands import ProgramCommands
from spokeshave.desktop.proof.page import ProofPage
from spokeshave.desktop.reading_bar import ReadingBar
from spokeshave.desktop.recent import RecentFiles
from spokeshave.desktop.ribbon import Ribbon, stage_states
from spokeshave.desktop.run_cluster import RunCluster
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.chart_commands import ChartCommands
from spokeshave.desktop.sequence.page import SequencePage
from spokeshave.desktop.shown_runs import Showing
from spokeshave.desktop.signals.page import SignalsPage
from spokeshave.desktop.stages import STAGE_OF, STAGES, TITLES, Pages
from spokeshave.desktop.start_page import StartPage
from spokeshave.desktop.tasks import TaskLine, Tasks
from spokeshave.desktop.theme import theme
from spokeshave.desktop.waiting_line import WaitingLine
from spokeshave.formats.recovery import Recovery
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Instance


class MainWindow(FileWindow):
    """With `recovery`, edits are kept safe while they are not saved, and what an earlier run has kept is offered; with
    `settings`, sizes are as they were.
    """

    def __init__(
        self, document: Document, recovery: Recovery | None = None, settings: QSettings | None = None
    ) -> None:  # fmt: skip
        super().__init__()
        self.settings = settings
        self.preferences = Preferences.read(settings)
        self.recent = RecentFiles(settings)
        self.start: StartPage | None = None
        self.open_beside: Callable[[Path | None], None] = lambda _: None
        """Opens one more window of the program."""
        self.document = document
        self.keeper = Keeper(document, recovery) if recovery is not None else None
        self.recovery_bar = RecoveryBar(recovery.left_over() if recovery is not None else [], self.recover)
        self.runner = Runner(document)
        self.selection = Selection()
        self.stage = -1
        self.asks_before_closing = True
        self._fault = False
        self.disk_bar = DiskBar(document)
        self.reading_bar = ReadingBar(document)
        self._details_shown = {i: stage.details for i, stage in enumerate(STAGES)}
        self._outline_shown = {i: stage.outline for i, stage in enumerate(STAGES)}
        self.tasks = Tasks(self)
        self.tasks.failed.connect(self.say_fault)
        document.in_process = self.tasks.in_process
        document.show_table = self.show_pasted
        self.setAcceptDrops(True)
        self.pages = Pages(self)
        self.outline = Outline(document, self.selection)
        self.details = Details(document, self.selection)
        self.lists = QTabWidget()
        self.strip = TimingStrip(self.runner)
        self.findings = FindingsList(document, self.selection)
        self.alarms = AlarmList(self.runner, self.selection)
        for widget, title in ((self.findings, "Findings"), (self.alarms, "Alarms"), (self.strip, "Timing")):
            self.lists.addTab(widget, title)
        self.lists.setDocumentMode(True)
        self.lists.tabBar().setDrawBase(False)  # white in the dark theme
        self.bench_commands = BenchCommands(self)
        self.showing = Showing(self)
        self.chart_commands = ChartCommands(self, self.sequences_in_view)
        self.printing = Printing(self)
        self.program = ProgramCommands(self)
        self.table = CommandTable(self, command_list(self))
        self.table.fill_menus(self)
        self.program.add_recent_menu()
        self._arrange()
        self._connect()
        self.show_stage(2)
        self.refresh()
        theme.dress(self)
        if settings is not None:
            self.program.restore(settings)

    @property
    def brief(self) -> BriefPage:
        return cast(BriefPage, self.pages.page(0))

    @property
    def signals(self) -> SignalsPage:
        return cast(SignalsPage, self.pages.page(1))

    @property
    def sequence(self) -> SequencePage:
        return cast(SequencePage, self.pages.page(2))

    @property
    def machine(self) -> MachinePage:
        return cast(MachinePage, self.pages.page(3))

    @property
    def bench(self) -> BenchPage:
        return cast(BenchPage, self.pages.page(4))

    @property
    def proof(self) -> ProofPage:
        return cast(ProofPage, self.pages.page(5))

    def _arrange(self) -> None:
        self.ribbon = Ribbon(TITLES)
        self.cluster = RunCluster(self.runner, self.table.actions)
        self.waiting = WaitingLine(self.runner)
        top = QHBoxLayout()
        top.setContentsMargins(0, 0, 0, 0)
        top.addWidget(self.ribbon)
        top.addStretch(1)
        top.addWidget(self.cluster)
        middle = QSplitter(Qt.Orientation.Vertical)
        middle.addWidget(self.pages)
        middle.addWidget(self.lists)
        middle.setSizes([600, 150])
        middle.setCollapsible(0, False)
        self.across = across = QSplitter(Qt.Orientation.Horizontal)
        for widget in (self.outline, middle, self.details):
            across.addWidget(widget)
        self.outline.setMinimumWidth(160)  # names of steps stay whole beside the widest page
        self.details.setMinimumWidth(232)
        across.setSizes([176, 860, 244])
        across.setStretchFactor(1, 1)
        across.setCollapsible(1, False)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self.recovery_bar)
        column.addWidget(self.disk_bar)
        column.addWidget(self.reading_bar)
        column.addWidget(self.waiting)
        column.addWidget(across, 1)
        self.setCentralWidget(whole)
        self.message = TextLabel()
        self.counts = QToolButton()
        self.counts.setAutoRaise(True)
        self.counts.setToolTip("Shows or hides what the check finds (F9)")
        self.counts.clicked.connect(self.toggle_findings)
        self.statusBar().addWidget(self.message, 1)
        self.statusBar().addPermanentWidget(TaskLine(self.tasks))
        self.statusBar().addPermanentWidget(self.counts)
        self.lists.hide()
        self.resize(1280, 800)

    def _connect(self) -> None:
        self.ribbon.chosen.connect(self.show_stage)
        self.document.changed.connect(self.refresh)
        self.document.checked.connect(self.refresh)
        self.document.proven.connect(self.refresh)
        self.document.refused.connect(self.say_fault)
        self.document.noted.connect(self.say)
        self.runner.refused.connect(self.say_fault)
        self.runner.found.connect(self.say)
        self.runner.running_changed.connect(self.table.refresh)
        self.runner.advanced.connect(self._count)
        self.selection.asked.connect(self._go)
        self.selection.uses_asked.connect(self.program.show_uses)
        self.waiting.signal_asked.connect(lambda name: self.selection.go(Place("signal", item=name)))
        self.waiting.device_asked.connect(self._go_to_device)
        self.waiting.step_asked.connect(lambda q, s: self.selection.go(Place("step", q, s)))
        self.document.drafts.changed.connect(self._title)
        self.document.edited.connect(self._edit_done)
        self.disk_bar.reload_asked.connect(self.reload)
        self.disk_bar.beside_asked.connect(self.save_beside)

    # -- what is shown

    def _title(self) -> None:
        path = self.document.path
        name = path.name if path else "not saved yet"
        self.setWindowTitle(f"{'• ' if self.document.dirty else ''}{self.document.project.name} ({name}) - Spokeshave")

    def refresh(self) -> None:
        self._title()
        history = self.document.history
        self.table.actions["edit.undo"].setText(f"Undo {history.undo_name}".strip())
        self.table.actions["edit.redo"].setText(f"Redo {history.redo_name}".strip())
        self.table.refresh()
        self._count()

    def _count(self) -> None:
        """States of the stages, and the counts at the lower right."""
        session = self.runner.session
        self.ribbon.show_states(stage_states(self.document, session is not None and session.k > 0))
        worst = [d.severity.value for d in self.document.findings]
        parts = [f"{worst.count(s)} {s}{'s' if worst.count(s) > 1 else ''}" for s in ("error", "warning") if s in worst]
        alarms = self.runner.standing_alarms
        parts.append(f"{alarms} alarm{'s' if alarms > 1 else ''}" if alarms else "")
        if self.document.checking:
            parts = [f"checks {sum(len(q.steps) for q in self.document.project.sequences)} steps", parts[-1]]
        text = "   ".join(p for p in parts if p) or "no findings to mend"
        if self.counts.text() != text:
            self.counts.setText(text)

    def _edit_done(self) -> None:
        """An edit has succeeded: what was refused before it is no matter any more."""
        if self._fault:
            self.say("")

    def say(self, text: str) -> None:
        self._fault = False
        self.message.setObjectName("")
        self.message.setStyleSheet("")
        self.message.setText(text)

    def say_fault(self, text: str) -> None:
        """A refusal: what was not done and why. Stays until something else is said."""
        self._fault = True
        self.message.setStyleSheet(f"color: {theme.now.late}; font-weight: 600;")
        self.message.setText(f"✕ {text}")
        self.message.setToolTip(plain(text))

    def show_stage(self, index: int) -> None:
        if self.stage != index:
            self.say("")
        self.stage = index
        page = self.pages.page(index)
        self.pages.setCurrentIndex(index)
        self.ribbon.show_stage(index)
        self.waiting.show()
        self.counts.show()
        self.details.setVisible(self._details_shown[index])
        self.outline.setVisible(self._outline_shown[index] and not self.program.takes_room)
        first = page.first()
        if first is not None:
            first.setFocus()
        self.table.refresh()

    def show_start(self) -> None:
        """The start page, before all stages: what to begin with."""
        if self.start is None:
            self.start = StartPage(self.recent)
            self.start.new_asked.connect(self.new_file)
            self.start.open_asked.connect(self.ask_open)
            self.start.tour_asked.connect(self.program.begin_tour)
            self.start.file_asked.connect(self.open_file)
            self.start.example_asked.connect(self.open_example)
        self.stage = -1
        self.pages.show_start(self.start)
        self.ribbon.show_stage(-1)
        for panel in (self.details, self.outline, self.lists, self.waiting, self.counts):
            panel.hide()
        self.start.new.setFocus()
        self.table.refresh()

    @property
    def place_in_manual(self) -> str:
        """Where the stage in front stands in the manual."""
        return STAGES[self.stage].manual if self.stage >= 0 else ""

    def sequences_in_view(self) -> SequencePage:
        """The sequence page that commands are about: the bench has one of its own."""
        return self.bench.faces if self.stage == 4 else self.sequence

    def show_scene(self) -> None:
        """The machine drawn, to be laid out."""
        self.show_stage(3)
        self.machine.parts.setCurrentWidget(self.machine.scene)
        self.machine.scene.editor.setFocus()

    def show_face(self, face: str) -> None:
        self.sequences_in_view().show_face(face)

    def toggle_outline(self) -> None:
        shown = not self.outline.isVisible()
        self._outline_shown[self.stage] = shown
        self.outline.setVisible(shown)

    def toggle_details(self) -> None:
        shown = not self.details.isVisible()
        self._details_shown[self.stage] = shown
        self.details.setVisible(shown)

    def toggle_lower(self) -> None:
        self.lists.setVisible(not self.lists.isVisible())

    def toggle_dark(self) -> None:
        self.program.take(replace(self.preferences, colours="light" if theme.dark else "dark"))

    def set_dark(self, dark: bool) -> None:
        """Puts everything into the dark colours, or the light ones."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        if dark == theme.dark:
            return
        theme.apply(app, dark)
        for window in app.topLevelWidgets():
            if isinstance(window, MainWindow):
                window.recolour()

    def recolour(self) -> None:
        """After a change between light and dark: what was painted ahead is painted again."""
        self.table.refresh_icons()
        self.cluster.refresh_state()
        for page in self.pages.made.values():
            page.recolour()
        if self.start is not None:
            self.start.recolour()
        self.outline.recolour()
        self.findings.refresh()

    def toggle_findings(self) -> None:
        """The list of what the check finds, below the work; away with it where it is shown."""
        self.lists.setVisible(not (self.lists.isVisible() and self.lists.currentWidget() is self.findings))
        self.lists.setCurrentWidget(self.findings)

    def focus_filter(self) -> None:
        self.outline.show()
        self.outline.filter.setFocus()
        self.outline.filter.selectAll()

    def _go(self) -> None:
        """Brings the stage of the selected item to the front."""
        place = self.selection.place
        if place.kind in ("project", "sequence", "instance") and not self.details.isVisible():
            self.toggle_details()
        if place.kind == "sequence":
            self.sequence.show_sequence(place.item)
        stage = STAGE_OF.get(place.kind)
        if stage is not None and not (self.stage == 4 and stage in (2, 3)):
            self.show_stage(stage)
        for page in self.pages.made.values():
            page.go_to(place)

    def _go_to_device(self, signal: str) -> None:
        for d in self.document.project.devices:
            if any(s.lower() == signal.lower() for _, s in d.wires):
                self.selection.go(Place("device", item=d.name))
                return
        self.say_fault(f"no device gives {signal}")

    # -- leaving

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        self.runner.pause()
        self.bench_commands.close()
        for page in self.pages.made.values():
            page.leave(self.settings)
        if self.settings is not None:
            self.program.keep(self.settings)
        if self.keeper is not None:
            self.keeper.close()
        event.accept()

    # -- the rest of the commands

    def new_sequence(self) -> None:
        self.show_stage(2)
        self.sequence.new_sequence()

    def declare_block(self) -> None:
        """A timer with a free name, to be named and chosen in the details."""
        name = edits.free_name("Timer1", edits.taken_names(self.document.project))
        block = Instance(name, "TON")
        if self.document.edit(f"Declare {name}", lambda p: edits.add_item(p, "instances", block)):
            self.selection.go(Place("instance", item=name))

    def show_file_form(self) -> None:
        self.selection.go(Place("project"))

    def show_proof(self, part: QWidget) -> None:
        """A page of the proof, such as `proof.sweep`."""
        self.show_stage(5)
        self.proof.parts.setCurrentWidget(part)

    def propose_scenarios(self) -> None:
        self.show_proof(self.proof.scenarios)
        self.proof.scenarios.propose()

    def add_scenario(self) -> None:
        self.show_proof(self.proof.scenarios)
        self.proof.scenarios.add()

    def ask_brief(self) -> None:
        self.show_stage(0)
        self.brief.ask_import()

    def run_proof(self) -> None:
        self.show_proof(self.proof.scenarios)
        self.proof.run_everything()

    def run_what_changed(self) -> None:
        self.show_proof(self.proof.scenarios)
        self.proof.run_what_changed()

    def entries(self) -> list[tuple[str, str, Callable[[], object]]]:
        """What the palette offers: commands that are possible now, then items."""
        out: list[tuple[str, str, Callable[[], object]]] = []
        for c in self.table.commands.values():
            if c.enabled() and c.ident != "edit.find":
                out.append((c.name, c.shortcut, c.run))
        p = self.document.project
        places = [
            (f"{q.name}: {s.number} {s.name}", Place("step", q.name, s.name)) for q in p.sequences for s in q.steps
        ]
        places += [(f"Signal {s.name}", Place("signal", item=s.name)) for s in p.signals]
        places += [(f"Table {t.name}", Place("table", item=t.name)) for t in p.tables]
        places += [
            (f"{'Block' if r.is_block else 'Function'} {r.name}", Place("routine", item=r.name)) for r in p.routines
        ]
        places += [(f"Device {d.name}", Place("device", item=d.name)) for d in p.devices]
        places += [(f"Scenario {s.name}", Place("scenario", item=s.name)) for s in p.scenarios]
        return out + [(text, "", lambda place=place: self.selection.go(place)) for text, place in places]

    def open_finder(self) -> Finder:
        finder = Finder(self, self.entries())
        at = self.mapToGlobal(self.rect().center())
        finder.move(at.x() - finder.width() // 2, self.mapToGlobal(self.rect().topLeft()).y() + 90)
        finder.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        finder.show()
        finder.line.setFocus()
        return finder
