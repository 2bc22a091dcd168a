"""The manual beside the work: the pages of `docs/`, at what has the keyboard, with a search that finds sections."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QImage, QTextCursor, QTextDocument
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QTextBrowser,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

import spokeshave
from spokeshave.desktop.icons import icon
from spokeshave.desktop.side_panel import SidePanel
from spokeshave.machine.kinds import KINDS

FOLDER = Path(spokeshave.__file__).parent / "manual"
PAGES = (
    "your-first-machine", "from-your-table", "from-your-case-program", "desktop", "machine", "what-to-prove", "scenarios", "proof", "alarms",
    "recipes", "strength", "room", "controller", "scene", "when-it-does-not-go-on", "language", "semantics", "check", "devices", "formats",
    "recordings", "versions", "examples",
)  # fmt: skip
"""The pages in the order one needs them."""
AT = "manual"
"""The property of a widget that says where it stands in the manual: a page, `#`, how the heading begins."""
MOST_FOUND = 40
AROUND = 40
"""Letters before a word that was found; twice as many behind it."""
NARROWEST = 350
"""Pixels a line of text needs to be read."""


@dataclass(frozen=True, slots=True)
class Section:
    """A heading of a page with what stands below it, up to the next one."""

    page: str
    heading: str
    level: int
    text: str

    @property
    def place(self) -> str:
        """As `Manual.show_at` takes it."""
        return f"{self.page}#{self.heading}"


@cache
def page_text(page: str) -> str:
    """A page as Markdown."""
    return (FOLDER / f"{page}.md").read_text(encoding="utf-8")


@cache
def sections() -> tuple[Section, ...]:
    """All sections of all pages."""
    found = []
    for page in PAGES:
        heading, level, lines, code = "", 0, [], False
        for line in (*page_text(page).splitlines(), "# "):
            code ^= line.startswith("```")
            head = None if code else re.match(r"(#{1,4}) (.*)", line)
            if head is None:
                lines.append(line)
                continue
            if heading:
                found.append(Section(page, heading, level, "\n".join(lines)))
            heading, level, lines = _bare(head[2]), len(head[1]), []
    return tuple(found)


def _bare(text: str) -> str:
    return re.sub(r"[`*]", "", text).strip()


def search(words: str) -> list[Section]:
    """The sections that have all of some words, those first whose heading has them."""
    wanted = words.casefold().split()
    if not wanted:
        return []
    found = [s for s in sections() if all(w in f"{s.heading} {s.text}".casefold() for w in wanted)]
    return sorted(found, key=lambda s: (-sum(w in s.heading.casefold() for w in wanted), s.level))[:MOST_FOUND]


def place_of(widget: QWidget | None) -> str:
    """Where a widget stands in the manual: what it, or the nearest thing it is in, says; empty if nothing does."""
    while widget is not None:
        said = widget.property(AT)
        if said:
            return str(said)
        widget = widget.parentWidget()
    return ""


def place_of_device(kind: str) -> str:
    """Where a kind of device stands in the manual; empty for one that nobody knows."""
    if kind == "own":
        return "machine#Own devices"
    return f"devices#{KINDS[kind].title}" if kind in KINDS else ""


class PageView(QTextBrowser):
    """A page with its pictures, as wide as there is room; sharp where the screen is."""

    def loadResource(self, kind: int, url: QUrl | str) -> object:
        if kind != QTextDocument.ResourceType.ImageResource.value:
            return super().loadResource(kind, url)
        picture = QImage(str(FOLDER / QUrl(url).path()))
        if picture.isNull():
            return picture
        ratio, room = self.devicePixelRatioF(), max(200, self.viewport().width() - 24)
        small = picture.scaledToWidth(
            round(min(picture.width(), room) * ratio), Qt.TransformationMode.SmoothTransformation
        )
        small.setDevicePixelRatio(ratio)
        return small


class Manual(SidePanel):
    """Beside the work, as wide as one likes."""

    def __init__(self) -> None:
        super().__init__("manual")
        self.setMinimumWidth(NARROWEST)
        self.line = QLineEdit()
        self.line.setPlaceholderText("Search the manual")
        self.line.setAccessibleName("Search the manual")
        self.line.setClearButtonEnabled(True)
        self.line.textChanged.connect(self.look_for)
        self.line.returnPressed.connect(self.go_to_first)
        self.text = PageView()
        self.text.setAccessibleName("Manual")
        self.text.setOpenLinks(False)
        self.text.document().setDocumentMargin(10)
        self.text.anchorClicked.connect(self._follow)
        self.contents = QToolButton()
        self.contents.setText("Contents")
        self.contents.clicked.connect(self.show_contents)
        self.back = QToolButton()
        self.back.setIcon(icon("back"))
        self.back.setAccessibleName("Back")
        self.back.setToolTip("To where you were before")
        self.back.clicked.connect(self.go_back)
        self._been: list[str] = []
        self.at = ""
        """The page that is shown, `#`, its heading; empty for the contents and what was found."""
        row = QHBoxLayout()
        row.addWidget(self.back)
        row.addWidget(self.contents)
        row.addWidget(self.line, 1)
        row.addWidget(self.close_button)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 8)
        column.addLayout(row)
        column.addWidget(self.text, 1)
        self.show_contents()

    def show_at(self, place: str) -> None:
        """Shows a page at a heading: `machine#Wiring`; the contents where the manual has no such page."""
        page, _, heading = place.partition("#")
        page = page.removesuffix(".md")
        if page not in PAGES:
            self.show_contents()
            return
        if self.at and self.at != place:
            self._been.append(self.at)
        self.at = place
        document = self.text.document()
        if document is not None:
            document.setMarkdown(page_text(page), QTextDocument.MarkdownFeature.MarkdownDialectGitHub)
        self._set_apart()
        self._scroll_to(_bare(heading))
        self.back.setEnabled(bool(self._been))

    def show_contents(self) -> None:
        """All pages with their sections."""
        self.at = ""
        lines = []
        for s in sections():
            if s.level == 1:
                lines.append(f"\n**[{s.heading}]({s.page}.md#)**\n")
            elif s.level == 2:
                lines.append(f"- [{s.heading}]({_url(s)})")
        self.text.setMarkdown("\n".join(lines))
        self.back.setEnabled(bool(self._been))

    def look_for(self, words: str) -> None:
        """Lists the sections that have all words."""
        if not words.strip():
            self.show_contents()
            return
        found = search(words)
        lines = [f"[{s.heading}]({_url(s)}), {_title(s.page)}\\\n{_around(s, words)}\n" for s in found]
        self.at = ""
        self.text.setMarkdown("\n".join(lines) or "Nothing in the manual has all of these words.")

    def go_to_first(self) -> None:
        """Opens the first section that was found."""
        found = search(self.line.text())
        if found:
            self.show_at(found[0].place)

    def go_back(self) -> None:
        if self._been:
            place = self._been.pop()
            self.at = ""
            self.show_at(place)

    def _follow(self, url: QUrl) -> None:
        page, heading = url.path(), url.fragment(QUrl.ComponentFormattingOption.FullyDecoded)
        if url.isRelative() and page.endswith(".md"):
            self.show_at(f"{page.removesuffix('.md')}#{heading}")

    def _set_apart(self) -> None:
        """Room above headings and paragraphs, but not within lists, tables and code."""
        cursor = QTextCursor(self.text.document())
        while True:
            shape = cursor.blockFormat()
            level = shape.headingLevel()
            if level or not (cursor.currentList() or cursor.currentTable() or shape.nonBreakableLines()):
                shape.setTopMargin(14 if level else 7)
                cursor.setBlockFormat(shape)
            if not cursor.movePosition(QTextCursor.MoveOperation.NextBlock):
                return

    def _scroll_to(self, heading: str) -> None:
        """Brings the first heading to the top that begins so, whatever its marks."""
        document = self.text.document()
        block = document.begin()
        while heading and block.isValid():
            if block.blockFormat().headingLevel() > 0 and block.text().startswith(heading):
                break
            block = block.next()
        cursor = QTextCursor(block if heading and block.isValid() else document.begin())
        self.text.moveCursor(QTextCursor.MoveOperation.End)  # so that the heading comes to the top
        self.text.setTextCursor(cursor)
        self.text.ensureCursorVisible()
        bar, box = self.text.verticalScrollBar(), self.text.cursorRect(cursor)
        bar.setValue(bar.value() + box.top() - 4)


def _around(s: Section, words: str) -> str:
    """Some words of a section around the first one that is looked for."""
    text = " ".join(re.sub(r"[`*|#\[\]<>_\\-]+", " ", s.text).split())
    at = min((n for n in (text.casefold().find(w) for w in words.casefold().split()) if n >= 0), default=0)
    begin = text.rfind(" ", 0, max(0, at - AROUND)) + 1
    return ("... " if begin else "") + text[begin : begin + 3 * AROUND].rpartition(" ")[0] + " ..."


def _url(s: Section) -> str:
    return f"{s.page}.md#{bytes(QUrl.toPercentEncoding(s.heading).data()).decode()}"


def _title(page: str) -> str:
    return next(s.heading for s in sections() if s.page == page)
