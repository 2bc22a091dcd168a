"""Serving the run on the screen over Modbus TCP: a window of its own with the role, the address, the map and numbers."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.plain import TextLabel
from spokeshave.desktop.runner import Runner
from spokeshave.fieldbus.access import AccessError, Network, networks, warning
from spokeshave.fieldbus.address_map import AddressMap, Role
from spokeshave.fieldbus.image import Image
from spokeshave.fieldbus.server import ServeError, Server

SAYS = {
    Role.CONTROLLER: "The controls run here; an outside machine writes the inputs and reads the outputs.",
    Role.MACHINE: "The machine runs here; an outside controller writes the outputs and reads the inputs.",
    Role.ONLOOKER: "Both run here; clients read everything and write nothing.",
}


class ServingWindow(QWidget):
    """Closing it ends the serving."""

    def __init__(self, runner: Runner, parent: QWidget | None = None) -> None:
        super().__init__(parent)
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
        self.toggle = QPushButton("Serve")
        self.toggle.clicked.connect(self.toggle_serving)
        self.state = TextLabel("Not serving.")
        self.state.setWordWrap(True)
        self.map = QTreeWidget()
        self.map.setAccessibleName("Address map")
        self.map.setHeaderLabels(["Table", "Address", "Registers", "Signal", "Type"])
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
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(self.toggle)
        column.addWidget(self.state)
        column.addWidget(self.map, 1)
        hint = TextLabel("Numbers of two registers have the more significant one first; a REAL is an IEEE single.")
        hint.setObjectName("hint")
        hint.setWordWrap(True)
        column.addWidget(hint)
        self.resize(560, 620)
        self._timer = QTimer(self)
        self._timer.setInterval(500)
        self._timer.timeout.connect(self.refresh_state)
        runner.restarted.connect(self.restarted)
        self.refresh()

    def refresh(self) -> None:
        role = Role(self.role.currentData())
        self.says.setText(SAYS[role])
        self._warn()
        self.map.clear()
        session = self.runner.session
        if session is not None:
            for row in AddressMap(session.program.project, role).rows():
                self.map.addTopLevelItem(QTreeWidgetItem([str(x) for x in row]))

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

    def toggle_serving(self) -> None:
        if self.server is not None:
            self.stop()
            return
        session = self.runner.session
        host, _, port = self.address.text().strip().rpartition(":")
        if session is None or not host or not port.isdigit() or int(port) > 65535:
            self.state.setText("✕ Write the address as HOST:PORT, for example 127.0.0.1:5020.")
            return
        try:
            allowed = self._allowed()
        except AccessError as error:
            self.state.setText(f"✕ {error}")
            return
        image = Image(session.program.project, Role(self.role.currentData()))
        server = Server(image, host, int(port), allowed)
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
