"""The look: colours, fonts and the style sheet, in a light and a dark member of one family."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from PySide6.QtGui import QColor, QFont, QPalette
from PySide6.QtWidgets import QApplication, QMainWindow

ARROW = (Path(__file__).parent / "icons" / "chevron.svg").as_posix()


@dataclass(frozen=True, slots=True)
class Colours:
    """State colours can be told apart by colour-blind people, and each has a second sign where it is drawn."""

    window: str
    surface: str
    raised: str
    ink: str
    faint: str
    hairline: str
    accent: str
    accent_soft: str
    selection: str
    active: str = "#0072B2"
    active_soft: str = "#D6E8F4"
    false: str = "#B85C00"
    true: str = "#00795B"
    late: str = "#C8420A"
    held: str = "#7D7F80"
    forced: str = "#7B4FA3"
    on_active: str = "#FFFFFF"
    found: str = "#F3DFA8"


LIGHT = Colours("#F3F1EC", "#FFFFFF", "#FAF9F6", "#1E2A32", "#66707A", "#D8D3C8", "#0F6A73", "#DCEBEC", "#E4EFF0")
DARK = Colours(
    "#22282C", "#1A1F23", "#2A3136", "#E8E6E1", "#9AA5AC", "#3B444A", "#4FB3BD", "#23424A", "#2B3F45",
    active="#3E9BD6", active_soft="#1F3A4D", false="#F0A04B", true="#4CC29C", late="#FF7A45", held="#9A9C9E",
    forced="#B48FD6", on_active="#10161A", found="#6A5A22",
)  # fmt: skip


class Theme:
    """The colours in use. Widgets ask `theme.now` when they paint."""

    def __init__(self) -> None:
        self.now = LIGHT
        self.paper = False
        """Whether something is drawn on paper now."""
        self._made: dict[tuple[Colours, str], QColor] = {}

    @property
    def dark(self) -> bool:
        return self.now is DARK

    def colour(self, name: str) -> QColor:
        """A colour by its name in `Colours`, shared by all: who changes it copies it first."""
        key = (self.now, name)
        if key not in self._made:
            self._made[key] = QColor(getattr(self.now, name))
        return self._made[key]

    @contextmanager
    def on_paper(self) -> Iterator[None]:
        """The light colours for as long as something is drawn on paper."""
        before, self.now, self.paper = (self.now, self.paper), LIGHT, True
        try:
            yield
        finally:
            self.now, self.paper = before

    def apply(self, app: QApplication, dark: bool = False) -> None:
        """Sets colours and font of the whole program, and the style sheet of its windows."""
        self.now = DARK if dark else LIGHT
        if app.font() != text_font():  # each goes through all there is, and stays the same
            app.setStyle("Fusion")
            app.setFont(text_font())
        c = self.now
        palette = QPalette()
        for role, name in (
            (QPalette.ColorRole.Window, c.window), (QPalette.ColorRole.Base, c.surface),
            (QPalette.ColorRole.AlternateBase, c.raised), (QPalette.ColorRole.Text, c.ink),
            (QPalette.ColorRole.WindowText, c.ink), (QPalette.ColorRole.Button, c.window),
            (QPalette.ColorRole.ButtonText, c.ink), (QPalette.ColorRole.Highlight, c.selection),
            (QPalette.ColorRole.HighlightedText, c.ink), (QPalette.ColorRole.Link, c.accent),
            (QPalette.ColorRole.LinkVisited, c.accent), (QPalette.ColorRole.ToolTipBase, c.surface),
            (QPalette.ColorRole.ToolTipText, c.ink), (QPalette.ColorRole.PlaceholderText, c.faint),
        ):  # fmt: skip
            palette.setColor(role, QColor(name))
        app.setPalette(palette)
        for window in app.topLevelWidgets():
            if isinstance(window, QMainWindow):
                self.dress(window)

    def dress(self, window: QMainWindow) -> None:
        """Gives a window the style sheet, when all is in it: a sheet of the whole program would be gone through again each
        time a part is put into another.
        """
        window.setStyleSheet(style_sheet(self.now))


theme = Theme()
STATE_COLOURS = {"late": "late", "tripped": "late", "held": "held"}
"""Names of colours by the state of an active step; one that simply runs is `active`."""


def state_colour(state: str) -> QColor:
    """The colour of an active step by its state."""
    return theme.colour(STATE_COLOURS.get(state, "active"))


def text_font(px: int = 13, bold: bool = False) -> QFont:
    """The text font, on the screen with figures of one width. On paper without: a font's other figures have no way back
    to characters, so that text taken out of a PDF would have none.
    """
    return _text_font(px, bold, not theme.paper)


@cache
def _text_font(px: int, bold: bool, tabular: bool) -> QFont:
    font = QFont()
    font.setFamilies(["Inter", "Noto Sans", "DejaVu Sans"])
    font.setPixelSize(px)
    font.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    font.clearFeatures()  # those of the application's font
    if tabular:
        font.setFeature(QFont.Tag("tnum"), 1)
    else:
        for name in ("calt", "liga"):  # letters that stand for others have no way back either
            font.setFeature(QFont.Tag(name), 0)
    return font


@cache
def code_font(px: int = 12) -> QFont:
    """The font of code and conditions."""
    font = QFont()
    font.setFamilies(["JetBrains Mono", "DejaVu Sans Mono", "monospace"])
    font.setPixelSize(px)
    return font


def style_sheet(c: Colours) -> str:
    """What windows look like in these colours."""
    return f"""
    QWidget {{ color: {c.ink}; }}
    QMainWindow, QDialog {{ background: {c.window}; }}
    QToolTip {{ background: {c.surface}; color: {c.ink}; border: 1px solid {c.hairline}; padding: 4px; }}
    QTableView, QTreeView, QListView, QPlainTextEdit, QGraphicsView {{
        background: {c.surface}; border: 1px solid {c.hairline}; gridline-color: {c.hairline};
        selection-background-color: {c.selection}; selection-color: {c.ink}; }}
    QTableView::item:selected, QTreeView::item:selected, QListView::item:selected {{
        background: {c.selection}; color: {c.ink}; }}
    QHeaderView {{ background: {c.raised}; border: none; }}
    QHeaderView::section {{ background: {c.raised}; color: {c.faint}; border: none; padding: 5px 8px;
        border-right: 1px solid {c.hairline}; border-bottom: 1px solid {c.hairline}; font-weight: 600; }}
    QTableCornerButton::section {{ background: {c.raised}; border: none; }}
    QLineEdit, QComboBox, QSpinBox, QDoubleSpinBox {{ background: {c.surface}; border: 1px solid {c.hairline}; border-radius: 4px;
        padding: 3px 6px; min-height: 20px; selection-background-color: {c.accent}; selection-color: {c.surface}; }}
    QLineEdit:disabled, QComboBox:disabled, QSpinBox:disabled, QDoubleSpinBox:disabled {{ background: {c.window}; color: {c.faint}; }}
    QLineEdit:focus, QComboBox:focus, QPlainTextEdit:focus, QTableView:focus, QTreeView:focus, QListView:focus {{
        border: 1px solid {c.accent}; }}
    QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button {{
        width: 0; border: none; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ image: url({ARROW}); width: 10px; height: 10px; }}
    QTableView::item {{ padding: 0 6px; }}
    QTreeView::item, QListView::item {{ padding: 2px 0; }}
    QTreeView, QListView, QTableView {{ outline: none; }}
    QTableView::item:focus {{ border: 1px solid {c.accent}; padding: 0 5px; }}
    QComboBox QAbstractItemView {{ background: {c.surface}; border: 1px solid {c.hairline}; }}
    QPushButton {{ background: {c.surface}; border: 1px solid {c.hairline}; border-radius: 4px; padding: 4px 12px; }}
    QPushButton::menu-indicator {{ image: url({ARROW}); width: 10px; height: 10px; right: 4px; top: -1px;
        subcontrol-position: right center; subcontrol-origin: padding; }}
    QPushButton:hover {{ border-color: {c.accent}; }}
    QPushButton:focus {{ border: 1px solid {c.accent}; }}
    QPushButton#primary {{ background: {c.accent}; color: {c.surface}; border-color: {c.accent}; font-weight: 600; }}
    QFrame#tile {{ background: {c.surface}; border: 1px solid {c.hairline}; border-radius: 8px; }}
    QPushButton#fold {{ background: transparent; border: none; color: {c.accent}; text-align: left; padding: 3px 0; }}
    QPushButton#primary:disabled {{ background: {c.surface}; color: {c.faint}; border-color: {c.hairline}; }}
    QPushButton:disabled, QToolButton:disabled {{ color: {c.faint}; }}
    QToolButton {{ border: 1px solid transparent; border-radius: 4px; padding: 3px; }}
    QToolButton:hover {{ background: {c.accent_soft}; }}
    QToolButton:focus {{ border: 1px solid {c.accent}; }}
    QToolButton:checked {{ background: {c.accent_soft}; color: {c.accent}; font-weight: 600; }}
    QMenuBar {{ background: {c.window}; padding: 1px 6px; }}
    QMenuBar::item {{ padding: 3px 8px; background: transparent; border-radius: 4px; }}
    QMenuBar::item:selected {{ background: {c.accent_soft}; }}
    QMenu {{ background: {c.surface}; border: 1px solid {c.hairline}; padding: 4px; }}
    QMenu::item {{ padding: 4px 24px 4px 12px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {c.accent_soft}; }}
    QMenu::item:disabled {{ color: {c.faint}; }}
    QMenu::separator {{ height: 1px; background: {c.hairline}; margin: 4px 8px; }}
    QTabBar::tab {{ padding: 4px 12px; border: none; color: {c.faint}; background: transparent; }}
    QTabBar::tab:selected {{ color: {c.accent}; border-bottom: 2px solid {c.accent}; font-weight: 600; }}
    QTabWidget::pane {{ border: none; }}
    QSplitter::handle {{ background: {c.window}; }}
    QSplitter::handle:hover {{ background: {c.hairline}; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; margin: 0; }}
    QScrollBar::handle {{ background: {c.hairline}; border-radius: 4px; min-height: 24px; min-width: 24px; margin: 1px; }}
    QScrollBar::handle:hover {{ background: {c.faint}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QStatusBar {{ background: {c.window}; color: {c.faint}; border-top: 1px solid {c.hairline}; }}
    QStatusBar::item {{ border: none; }}
    QLabel#heading {{ font-size: 15px; font-weight: 600; }}
    QLabel#hint {{ color: {c.faint}; }}
    QLabel#fault {{ color: {c.late}; }}
    QFrame#card {{ background: {c.surface}; border: 1px solid {c.hairline}; border-radius: 6px; }}
    """
