"""The tab of a sequence: a click shows it, a second one its name, hold and restart; what else can be done is in its menu."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QMouseEvent
from PySide6.QtWidgets import QMenu, QToolButton

from spokeshave.desktop.plain_text import plain


class SequenceTab(QToolButton):
    """`form_asked`, `new_asked` and `delete_asked` tell what is wanted."""

    form_asked, new_asked, delete_asked = Signal(), Signal(), Signal()

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setText(name.replace("&", "&&"))
        self.setCheckable(True)
        self.setObjectName(f"sequence_{name}")
        self.setToolTip(plain("Double click for its name, hold and restart"))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if event.button() is Qt.MouseButton.LeftButton:
            self.form_asked.emit()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.addAction("Name, hold, restart", self.form_asked.emit)
        menu.addAction("New sequence", self.new_asked.emit)
        menu.addSeparator()
        menu.addAction("Delete the sequence", self.delete_asked.emit)
        menu.popup(event.globalPos())
