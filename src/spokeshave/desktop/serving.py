"""Serving the run on the screen over Modbus TCP: a window of its own with the role, the address, the map and numbers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.runner import Runner
from spokeshave.fieldbus.access import AccessError, Network, host_and_port, networks, warning
from spokeshave.fieldbus.address_map import (
    COUNT,
    ECHO,
    HEADS,
    AddressMap,
    Role,
    also,
    drop_point,
    keep_map,
    let_write,
    put_first_free,
    put_point,
)
from spokeshave.fieldbus.image import Image
from spokeshave.fieldbus.server import ServeError, Server
from spokeshave.formats.errors import FormatError
from spokeshave.formats.tables.pages import write_pages
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project

ADDRESS, NAME = 1, 3
"""Columns of the map."""
SAYS = {
    Role.CONTROLLER: "The controls run here; an outside machine writes the inputs and reads the outputs.",
    Role.MACHINE: "The machine runs here; an outside controller writes the outputs and reads the inputs.",
    Role.ONLOOKER: "Both run here; clients read everything and write nothing.",
}


class ServingWindow(QWidget):
    """Closing it ends the serving."""

    def __init__(self, runner: Runner, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("manual", "machine#Modbus TCP")
        self.setWindowFlag(Qt.WindowType.Window)
        self.setWindowTitle("Serve over Modbus TCP")
        self.runner = runner
        self.server: Server | None = None
        self.role = QComboBox()
        self.role.setAccessibleName("What this side is")
        for role in Role:
            self.role.addItem(role.value.capitalize(), role)
        self.role.currentIndexChanged.connect(self.refresh)
        self.says = TextLabel()
        self.says.setObjectName("hint")
        self.says.setWordWrap(True)
        self.address = QLineEdit("127.0.0.1:5020")
        self.address.setAccessibleName("Address to listen at")
        self.address.textChanged.connect(self._warn)
        self.allow = QLineEdit()
        self.allow.setAccessibleName("Addresses clients may come from")
        self.allow.setPlaceholderText("everybody; or 192.0.2.7, 192.0.2.0/24")
        self.allow.textChanged.connect(self._warn)
        self.open = TextLabel()
        self.open.setWordWrap(True)
        self.open.hide()
        self.open_to_all = QCheckBox("Let everybody connect")
        self.open_to_all.hide()
        self.toggle = QPushButton("Serve")
        self.toggle.clicked.connect(self.toggle_serving)
        self.state = TextLabel("Not serving.")
        self.state.setWordWrap(True)
        self.map = QTreeWidget()
        self.map.setAccessibleName("Address map")
        self.map.setHeaderLabels(list(HEADS))
        self.map.setEditTriggers(QTreeWidget.EditTrigger.NoEditTriggers)
        self.map.itemDoubleClicked.connect(self._edit)
        self.map.itemActivated.connect(self._edit)
        self.map.itemChanged.connect(self._typed)
        self.more = QComboBox()
        self.more.setAccessibleName("What else is in the map, to be read")
        self.more.activated.connect(self.add_chosen)
        self.take_out = QPushButton("Take out")
        self.take_out.setToolTip("A setting, a variable, a step or a state number; inputs and outputs stay")
        self.take_out.clicked.connect(self.drop_chosen)
        self.may_write = QPushButton("Let clients write")
        self.may_write.setToolTip(
            "The chosen setting, of a controller: whoever runs scenarios against it sets it from there"
        )
        self.may_write.clicked.connect(self.let_chosen)
        self.low_first = QCheckBox("Less significant register first")
        self.low_first.setToolTip("In numbers of two registers; without it the more significant one is first")
        self.low_first.clicked.connect(self._turn_words)
        self.by_count = QCheckBox("A scan for each that a client counts")
        self.by_count.setToolTip('Needs "scan count" and "scan echo" in the map; none is run by the clock then')
        self.keep = QPushButton("Keep the addresses")
        self.keep.setToolTip("In the machine file: what is inserted later moves none of them")
        self.keep.clicked.connect(self.keep_addresses)
        self.write = QPushButton("Write as a table ...")
        self.write.clicked.connect(self.ask_table)
        self.map.setRootIsDecorated(False)
        for i, width in enumerate((130, 70, 80)):
            self.map.setColumnWidth(i, width)
        self.map.header().setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
        form = QFormLayout()
        form.addRow("This side is the", self.role)
        form.addRow(self.says)
        form.addRow("Listen at", self.address)
        form.addRow("Clients from", self.allow)
        form.addRow(self.open)
        form.addRow(self.open_to_all)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(self.toggle)
        column.addWidget(self.state)
        column.addWidget(self.map, 1)
        row = QHBoxLayout()
        row.addWidget(self.more, 1)
        for button in (self.may_write, self.take_out, self.keep, self.write):
            row.addWidget(button)
        column.addLayout(row)
        words = QHBoxLayout()
        words.addWidget(self.low_first)
        words.addWidget(self.by_count)
        words.addStretch(1)
        column.addLayout(words)
        hint = TextLabel("Double-click an address to change it. A REAL is an IEEE single.")
        hint.setObjectName("hint")
        hint.setWordWrap(True)
        column.addWidget(hint)
        self.resize(560, 620)
        self._timer = QTimer(self)
        self._timer.setInterval(500)
        self._timer.timeout.connect(self.refresh_state)
        runner.restarted.connect(self.restarted)
        runner.document.changed.connect(self._document_changed)
        self.refresh()

    def show_role(self, role: Role) -> None:
        """The map of a role."""
        self.role.setCurrentIndex(self.role.findData(role))

    def refresh(self) -> None:
        role = Role(self.role.currentData())
        self.says.setText(SAYS[role])
        self._warn()
        project = self.runner.document.project
        found = AddressMap(project, role)
        self.map.blockSignals(True)
        self.map.clear()
        for row in found.rows():
            item = QTreeWidgetItem([str(x) for x in row])
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable)
            self.map.addTopLevelItem(item)
        self.map.blockSignals(False)
        there = {p.name for p in found.points}
        self.more.clear()
        self.more.addItems(["Add to the map ...", *(w.name for w in also(project, role) if w.name not in there)])
        self.low_first.setChecked(project.low_word_first)
        self.may_write.setEnabled(role is Role.CONTROLLER and self.server is None)
        self.by_count.setVisible({COUNT, ECHO} <= there)
        self.keep.setEnabled(keep_map(project, role) != project)
        if found.problems and self.server is None:
            self.state.setText(f"⚠ {'; '.join(found.problems)}")

    def _edit(self, item: QTreeWidgetItem, _: int = 0) -> None:
        """An address is typed into its cell."""
        if self.server is None:
            self.map.editItem(item, ADDRESS)

    def _typed(self, item: QTreeWidgetItem, column: int) -> None:
        if column == ADDRESS:
            self.put(item.text(NAME), item.text(ADDRESS))

    def _change(self, name: str, change: Callable[[Project, Role], Project]) -> None:
        """An edit of the map; what cannot be done is told here."""
        role = Role(self.role.currentData())
        try:
            made = change(self.runner.document.project, role)
        except EditError as error:
            self.refresh()
            self.state.setText(f"✕ {error}")
            return
        self.runner.document.edit(name, lambda _: made)
        self.state.setText("Not serving.")
        self.refresh()

    def put(self, name: str, text: str) -> None:
        """Puts something at the address that was typed."""
        number = int(text) if text.strip().isascii() and text.strip().isdigit() and len(text) < 9 else -1
        self._change(f"Modbus address of {name}", lambda p, role: put_point(p, name, number, role))

    def add_chosen(self, index: int) -> None:
        """Something else gets the next free address."""
        if index > 0:
            name = self.more.itemText(index)
            self._change(f"Map {name}", lambda p, role: put_first_free(p, name, role))

    def drop_chosen(self) -> None:
        item = self.map.currentItem()
        name = "" if item is None else item.text(NAME)
        if any(w.name == name for w in also(self.runner.document.project, Role(self.role.currentData()))):
            self._change(f"Take {name} out of the map", lambda p, role: drop_point(p, name, role))
        else:
            self.state.setText(
                "✕ Choose a setting, a variable, a step or a state number; inputs and outputs stay in the map."
            )

    def let_chosen(self) -> None:
        """Whether clients of a controller may write the chosen setting."""
        item = self.map.currentItem()
        name = "" if item is None else item.text(NAME)
        points = AddressMap(self.runner.document.project, Role.CONTROLLER).points
        on = not any(p.name == name and p.is_written for p in points)
        word = "Let clients write" if on else "Let clients only read"
        self._change(f"{word} {name}", lambda p, _: let_write(p, name, on))

    def _turn_words(self) -> None:
        on = self.low_first.isChecked()
        self._change("Order of the registers", lambda p, _: replace(p, low_word_first=on))

    def keep_addresses(self) -> None:
        """What is inserted later moves none of them."""
        self._change("Keep the Modbus addresses", keep_map)

    def ask_table(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Write the address map", "modbus.xlsx", "Workbook (*.xlsx);;CSV (*.csv)"
        )
        if name:
            self.write_table(Path(name) if Path(name).suffix else Path(f"{name}.xlsx"))

    def write_table(self, path: Path) -> None:
        """The map for whoever programs the other side."""
        found = AddressMap(self.runner.document.project, Role(self.role.currentData()))
        try:
            write_pages([found.table()], path)
        except FormatError as error:
            self.state.setText(f"✕ {error}")
        else:
            self.state.setText(f"Wrote {path.name}.")

    def _document_changed(self) -> None:
        if self.server is None:
            self.refresh()

    def _allowed(self) -> tuple[Network, ...]:
        return networks(t for t in self.allow.text().replace(",", " ").split())

    def _warn(self) -> None:
        """Says before the serving begins that others reach the address."""
        host = self.address.text().strip().rpartition(":")[0]
        try:
            allowed = self._allowed()
        except AccessError:
            allowed = ()
        said = warning(host, allowed, self.role.currentData() != Role.ONLOOKER) if host else ""
        self.open.setText(f"⚠ {said}.".replace("whoever", "Whoever") if said else "")
        self.open.setVisible(bool(said))
        self.open_to_all.setVisible(bool(said))

    def toggle_serving(self) -> None:
        if self.server is not None:
            self.stop()
            return
        session = self.runner.session
        try:
            host, port = host_and_port(self.address.text())
        except AccessError as error:
            self.state.setText(f"✕ {str(error).replace('write', 'Write the address as')}.")
            return
        if session is None:
            return
        try:
            allowed = self._allowed()
        except AccessError as error:
            self.state.setText(f"✕ {error}")
            return
        role = Role(self.role.currentData())
        if warning(host, allowed, role is not Role.ONLOOKER) and not self.open_to_all.isChecked():
            self.state.setText("✕ Say which clients may connect, or let everybody.")
            return
        kept = self.runner.document.project
        image = Image(replace(session.program.project, modbus=kept.modbus, low_word_first=kept.low_word_first), role)
        image.by_count = self.by_count.isVisible() and self.by_count.isChecked()
        server = Server(image, host, port, allowed)
        try:
            server.start()
        except ServeError as error:
            self.state.setText(f"✕ {error}")
            return
        self.server = server
        image.begin(session)
        self.runner.serve(image)
        self._timer.start()
        self._show_serving()

    def _show_serving(self) -> None:
        on = self.server is not None
        self.toggle.setText("End serving" if on else "Serve")
        self.role.setEnabled(not on)
        self.address.setEnabled(not on)
        self.allow.setEnabled(not on)
        for part in (self.more, self.may_write, self.take_out, self.keep, self.low_first, self.by_count):
            part.setEnabled(not on)
        self.refresh_state()

    def refresh_state(self) -> None:
        server = self.server
        if server is None:
            return
        image, late = server.image, self.runner.lateness
        clients = f"{server.clients} client{'' if server.clients == 1 else 's'}"
        self.state.setText(
            f"● Serving at {server.address}: {clients}, {image.reads} reads, {image.writes} writes, {image.refused} refused. "
            f"Scans begin {late.mean_ms:.1f} ms late on the mean, {late.within(0.99):.1f} ms at 99 %."
        )

    def stop(self) -> None:
        """Ends the connections; the run goes on without them."""
        server, self.server = self.server, None
        self._timer.stop()
        if server is None:
            return
        self.runner.serve(None)
        server.stop()
        session = self.runner.session
        if session is not None and session.situation.k:
            server.image.end(session)
        self.state.setText("Not serving.")
        self._show_serving()

    def restarted(self) -> None:
        """Another run is on the screen: its signals may be others."""
        self.stop()
        self.refresh()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.stop()
        event.accept()
