"""What a person likes otherwise than it comes: colours, size, the scan period of new files, saving by itself."""

from __future__ import annotations

from dataclasses import dataclass, replace

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.plain_text import TextLabel

COLOURS = ("light", "dark", "system")
SIZES = (100, 110, 125, 150, 175, 200)
"""Size of everything in the window, in percent: text, rows, charts, pictures."""
LEAST_PERIOD, MOST_PERIOD = 1, 1000
SAVES_MS = 30_000


@dataclass(frozen=True, slots=True)
class Preferences:
    """`colours` are light, dark or those of the system. With `saves_ms` above 0 a file that has a name is saved so long after the last edit."""

    colours: str = "light"
    size: int = 100
    period_ms: int = 10
    saves_ms: int = 0

    @classmethod
    def read(cls, settings: QSettings | None) -> Preferences:
        """As they were kept; what is kept and makes no sense is as it comes."""
        if settings is None:
            return cls()
        found = cls()
        colours = str(settings.value("preferences/colours", found.colours))
        size, period = _number(settings, "size", found.size), _number(settings, "period_ms", found.period_ms)
        found = replace(found, colours=colours if colours in COLOURS else found.colours)
        found = replace(found, size=size if size in SIZES else found.size)
        found = replace(found, period_ms=period if LEAST_PERIOD <= period <= MOST_PERIOD else found.period_ms)
        return replace(found, saves_ms=max(0, _number(settings, "saves_ms", 0)))

    def write(self, settings: QSettings) -> None:
        """Keeps them for the next start."""
        for name in ("colours", "size", "period_ms", "saves_ms"):
            settings.setValue(f"preferences/{name}", getattr(self, name))
        settings.sync()

    @property
    def dark(self) -> bool:
        """Whether the colours are dark ones now."""
        if self.colours == "system":
            hints = QGuiApplication.styleHints()
            return hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
        return self.colours == "dark"


def _number(settings: QSettings, name: str, otherwise: int) -> int:
    try:
        return int(str(settings.value(f"preferences/{name}", otherwise)))
    except ValueError:
        return otherwise


class PreferencesDialog(QDialog):
    """Shows them; `chosen` are those it shows now."""

    def __init__(self, preferences: Preferences, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Preferences")
        self.colours, self.scale, self.period = QComboBox(), QComboBox(), QSpinBox()
        for name, title in zip(COLOURS, ("Light", "Dark", "As the desktop has it")):
            self.colours.addItem(title, name)
        self.colours.setCurrentIndex(COLOURS.index(preferences.colours))
        for size in SIZES:
            self.scale.addItem(f"{size} %", size)
        self.scale.setCurrentIndex(SIZES.index(preferences.size))
        self.period.setRange(LEAST_PERIOD, MOST_PERIOD)
        self.period.setSuffix(" ms")
        self.period.setValue(preferences.period_ms)
        self.saves = QCheckBox("Save by itself half a minute after the last edit")
        self.saves.setChecked(preferences.saves_ms > 0)
        form = QFormLayout()
        rows = (
            ("&Colours", self.colours, ""),
            ("&Size of everything", self.scale, "Text, tables, charts and pictures; from the next start on."),
            ("Scan &period of new files", self.period, "How often the controller goes through its program."),
            ("Files", self.saves, "Edits that are not saved are kept safe in any case, and offered after a crash."),
        )
        for title, field, says in rows:
            field.setAccessibleName(title.replace("&", ""))
            form.addRow(title, field)
            if says:
                hint = TextLabel(says)
                hint.setObjectName("hint")
                form.addRow("", hint)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 18, 20, 14)
        column.setSpacing(16)
        column.addLayout(form)
        column.addWidget(buttons)

    @property
    def chosen(self) -> Preferences:
        return Preferences(
            str(self.colours.currentData()),
            int(self.scale.currentData()),
            self.period.value(),
            SAVES_MS * self.saves.isChecked(),
        )
