"""What stands there when no file was named: begin anew, open, bring your own, the files of last time, the examples."""

from __future__ import annotations

import time
from functools import partial
from pathlib import Path

from PySide6.QtCore import QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPixmap, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.recent import RecentFile, RecentFiles
from spokeshave.desktop.sequence.chart_small import LARGEST, SmallChart
from spokeshave.desktop.theme import text_font, theme
from spokeshave.examples import EXAMPLES, FOLDER
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import text_of
from spokeshave.model.project import Project, Sequence
from spokeshave.reading import is_by_hand, read_file

PICTURE = QSize(132, 92)
ROOM_FOR_TWO = 1050
"""Pixels of the page in which cards stand in two columns."""
LARGEST_FILE = 400_000
"""Bytes of a file of which a picture is drawn: a larger one would be waited for."""
OWN = (
    ("A table of steps ...", "From a spreadsheet (.xlsx, .ods, .csv). What each column is taken as is shown first.",
     "Tables (*.xlsx *.csv *.ods *.xlsm *.tsv)"),
    ("A program with states ...", "A CASE program or a chart as IEC text (.st). It is run beside what is read from it.",
     "IEC text (*.st)"),
    ("A chart as XML ...", "PLCopen XML (.xml) from another tool.", "PLCopen XML (*.xml)"),
)  # fmt: skip
"""What people bring: the button, a sentence, the kind of file."""


class FileCard(QAbstractButton):
    """A file to open: a small picture of its first chart, its name, and a line about it."""

    def __init__(self, title: str, line: str) -> None:
        super().__init__()
        self.title, self.line = title, line
        self.picture: QPixmap | None = None
        self.sequence: Sequence | None = None
        self.setAccessibleName(title)
        self.setAccessibleDescription(line)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setMinimumHeight(PICTURE.height() + 16)

    def sizeHint(self) -> QSize:
        return QSize(290, PICTURE.height() + 16)

    def show_chart(self, sequence: Sequence | None) -> None:
        """Draws the picture of a sequence, in the colours of now."""
        self.sequence = sequence
        if sequence is not None and 0 < len(sequence.steps) <= LARGEST:
            small = SmallChart(self.title)
            small.words_always = False
            small.resize(PICTURE)
            small.show_chart(sequence, {})
            self.picture = small.grab()
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(theme.colour("accent" if self.hasFocus() or self.underMouse() else "hairline"))
        painter.setBrush(theme.colour("surface"))
        painter.drawRoundedRect(box, 6, 6)
        if self.picture is not None:
            painter.drawPixmap(8, 8, self.picture)
        left = PICTURE.width() + 20
        room = QRectF(left, 10, self.width() - left - 12, self.height() - 20)
        painter.setFont(text_font(13, bold=True))
        painter.setPen(theme.colour("ink" if self.isEnabled() else "faint"))
        name = painter.fontMetrics().elidedText(self.title, Qt.TextElideMode.ElideRight, int(room.width()))
        painter.drawText(room, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, name)
        painter.setFont(text_font(12))
        painter.setPen(theme.colour("faint"))
        painter.drawText(room.adjusted(0, 22, 0, 0), Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap, self.line)


class StartPage(QScrollArea):
    """Emits what is wanted: a new file, one that is asked for (with a filter), a recent file, an example by its file's name."""

    new_asked = Signal()
    open_asked = Signal(str)
    tour_asked = Signal()
    file_asked = Signal(object)
    example_asked = Signal(str)

    def __init__(self, recent: RecentFiles) -> None:
        super().__init__()
        self.recent = recent
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setAccessibleName("Start")
        self.new = QPushButton("New machine file")
        self.new.setObjectName("primary")
        self.new.clicked.connect(self.new_asked)
        self.tour = QPushButton("First machine, in ten steps")
        self.tour.clicked.connect(self.tour_asked)
        self.open = QPushButton("Open ...")
        self.open.clicked.connect(lambda: self.open_asked.emit(""))
        self.own = [QPushButton(title) for title, _, _ in OWN]
        self.cards: list[FileCard] = []
        self.examples = [FileCard(title, line) for _, title, line in EXAMPLES]
        self._to_draw: list[tuple[FileCard, Path]] = []
        self._draws = QTimer(self)
        self._draws.timeout.connect(self._draw_next)
        self.recent_grid, self.example_grid = QGridLayout(), QGridLayout()
        self.nothing = TextLabel("Files that were opened or saved are listed here.")
        self.nothing.setObjectName("hint")
        self.setWidget(self._laid_out())
        recent.changed.connect(self.refresh)
        self.refresh()

    def _laid_out(self) -> QWidget:
        whole = QWidget()
        across = QHBoxLayout(whole)
        across.setContentsMargins(40, 28, 40, 28)
        across.setSpacing(44)
        begin = QVBoxLayout()
        begin.setSpacing(8)
        begin.addWidget(_heading("Begin"))
        begin.addWidget(self.new)
        begin.addWidget(self.tour)
        begin.addWidget(self.open)
        begin.addSpacing(18)
        begin.addWidget(_heading("Bring your own"))
        for button, (_, says, kinds) in zip(self.own, OWN):
            button.clicked.connect(partial(self.open_asked.emit, kinds))
            begin.addWidget(button)
            begin.addWidget(_hint(says))
        begin.addSpacing(10)
        begin.addWidget(_hint("A file that is dropped on the window is opened too."))
        begin.addStretch(1)
        left = QWidget()
        left.setFixedWidth(260)
        left.setLayout(begin)
        begin.setContentsMargins(0, 0, 0, 0)
        right = QVBoxLayout()
        right.setSpacing(8)
        right.addWidget(_heading("Recent files"))
        right.addWidget(self.nothing)
        right.addLayout(self.recent_grid)
        right.addSpacing(18)
        right.addWidget(_heading("Examples"))
        right.addWidget(_hint("Each opens as a copy: nothing you do to it changes the example."))
        for grid in (self.example_grid, self.recent_grid):
            grid.setSpacing(10)
        for card, (file, _, _) in zip(self.examples, EXAMPLES):
            card.clicked.connect(partial(self.example_asked.emit, file))
        right.addLayout(self.example_grid)
        right.addStretch(1)
        across.addWidget(left)
        across.addLayout(right, 1)
        return whole

    def refresh(self) -> None:
        """Shows the recent files; pictures come one by one, so that nobody waits for them."""
        for card in self.cards:
            self.recent_grid.removeWidget(card)
            card.deleteLater()
        self.cards = []
        self._to_draw = [(card, FOLDER / file) for card, (file, _, _) in zip(self.examples, EXAMPLES)]
        for n, file in enumerate(self.recent.files[:6]):
            card = FileCard(file.path.name, _line(file))
            card.setEnabled(file.path.exists())
            card.setToolTip(plain(str(file.path)))
            card.clicked.connect(partial(self.file_asked.emit, file.path))
            card.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            card.customContextMenuRequested.connect(partial(self._menu_of, card, file))
            self.cards.append(card)
            self._to_draw.insert(n, (card, file.path))
        self.nothing.setVisible(not self.cards)
        self._place()
        self._draws.start(0)

    def _place(self) -> None:
        """Two cards beside each other where there is room for their words."""
        across = 2 if self.viewport().width() >= ROOM_FOR_TWO else 1
        for grid, cards in ((self.recent_grid, self.cards), (self.example_grid, self.examples)):
            for column in (0, 1):
                grid.setColumnStretch(column, int(column < across))
            for n, card in enumerate(cards):
                grid.addWidget(card, n // across, n % across)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._place()

    def _menu_of(self, card: FileCard, file: RecentFile, *_: object) -> None:
        menu = QMenu(self)
        menu.addAction("Take off the list", lambda: self.recent.remove(file.path))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(card.mapToGlobal(card.rect().center()))

    def _draw_next(self) -> None:
        if not self._to_draw or not self.isVisible():
            self._draws.stop()
            return
        card, path = self._to_draw.pop(0)
        project = _small_file(path)
        if project is not None:
            card.show_chart(next(iter(project.sequences), None))

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        if self._to_draw:
            self._draws.start(0)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Return presses the button or card that has the keyboard, as Space does."""
        button = self.focusWidget()
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and isinstance(button, QAbstractButton):
            button.click()
        else:
            super().keyPressEvent(event)

    def recolour(self) -> None:
        """After a change between light and dark."""
        for card in (*self.cards, *self.examples):
            card.show_chart(card.sequence)


def _small_file(path: Path) -> Project | None:
    """A machine file that is read at once; None for what is large, gone, wrong, or has to be read as somebody's program."""
    try:
        if path.suffix.lower() not in (".spoke", ".st") or path.stat().st_size > LARGEST_FILE:
            return None
        if path.suffix.lower() == ".st" and is_by_hand(text_of(path)):
            return None
        return read_file(path).project
    except (FormatError, OSError):
        return None


def _line(file: RecentFile) -> str:
    if not file.path.exists():
        return f"not there any more\n{file.folder}"
    return f"{time.strftime('%d %b %Y, %H:%M', time.localtime(file.when))}\n{file.folder}"


def _heading(text: str) -> TextLabel:
    label = TextLabel(text)
    label.setObjectName("heading")
    return label


def _hint(text: str) -> TextLabel:
    label = TextLabel(text)
    label.setObjectName("hint")
    label.setWordWrap(True)
    return label
