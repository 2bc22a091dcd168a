"""An editor for structured text: line numbers, colours, completion, matching brackets, faults while typing."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QRect, QSize, QStringListModel, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QSyntaxHighlighter,
    QTextBlock,
    QTextCharFormat,
    QTextCursor,
    QTextDocument,
    QTextFormat,
)
from PySide6.QtWidgets import QCompleter, QPlainTextEdit, QTextEdit, QWidget

from spokeshave.desktop.plain_text import THEME_CHANGES, plain
from spokeshave.desktop.theme import code_font, theme
from spokeshave.language.functions import FUNCTIONS
from spokeshave.language.syntax import KEYWORDS

_TOKEN = re.compile(
    r"(?P<comment>\(\*.*?(?:\*\)|$)|//.*)|(?P<literal>\b(?:T|TIME)#[-+]?[\w.]+|\b\d[\w.#]*)|(?P<word>[A-Za-z_]\w*)",
    re.IGNORECASE,
)
INDENT = 2
_OPENS = re.compile(r"\b(?:THEN|ELSE|DO|OF|REPEAT)\s*$", re.IGNORECASE)
_CLOSES = re.compile(r"\s*(?:END_\w+|ELSE|ELSIF|UNTIL)\b", re.IGNORECASE)


def _depth(line: str) -> int:
    return len(line) - len(line.lstrip(" "))


_PAIRS = {"(": ")", ")": "("}
FUNCTION_NAMES = tuple(sorted({*FUNCTIONS, "RISING", "FALLING", "HELD"}))


@dataclass(frozen=True, slots=True)
class Fault:
    """Something wrong at a line and column (from 1)."""

    line: int
    column: int
    message: str


class Highlighter(QSyntaxHighlighter):
    """Words of the language, literals and comments; comments may go over lines."""

    def __init__(self, document: QTextDocument) -> None:
        super().__init__(document)
        self.formats: dict[str, QTextCharFormat] = {}
        self.read_theme()

    def read_theme(self) -> None:
        for kind, colour, bold in (("comment", "faint", False), ("literal", "true", False), ("word", "accent", True)):
            form = QTextCharFormat()
            form.setForeground(theme.colour(colour))
            form.setFontItalic(kind == "comment")
            if bold:
                form.setFontWeight(600)
            self.formats[kind] = form
        self.rehighlight()

    def highlightBlock(self, text: str) -> None:
        at = 0
        self.setCurrentBlockState(0)
        if self.previousBlockState() == 1:
            end = text.find("*)")
            at = len(text) if end < 0 else end + 2
            self.setFormat(0, at, self.formats["comment"])
            if end < 0:
                self.setCurrentBlockState(1)
                return
        for m in _TOKEN.finditer(text, at):
            kind = m.lastgroup or ""
            if kind == "word" and m[0].upper() not in KEYWORDS:
                continue
            self.setFormat(m.start(), m.end() - m.start(), self.formats[kind])
            if kind == "comment" and m[0].startswith("(*") and not m[0].endswith("*)"):
                self.setCurrentBlockState(1)


class _Numbers(QWidget):
    def __init__(self, editor: CodeEditor) -> None:
        super().__init__(editor)
        self.editor = editor

    def sizeHint(self) -> QSize:
        return QSize(self.editor.margin_width(), 0)

    def paintEvent(self, event: QPaintEvent) -> None:
        self.editor.paint_numbers(event)


class CodeEditor(QPlainTextEdit):
    """`words` are completed, `faults` are underlined, `marked` lines are those of active steps."""

    moved = Signal(int)
    """The line the cursor has gone to, from 1."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self._dark = theme.dark
        self.setAccessibleName(name)
        self.setFont(code_font(13))
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setTabStopDistance(2 * self.fontMetrics().horizontalAdvance(" "))
        self.colours = Highlighter(self.document())
        self.numbers = _Numbers(self)
        self.faults: list[Fault] = []
        self.marked: dict[int, str] = {}
        """Lines of active steps, from 1, with the name of their colour."""
        self.notes: dict[int, str] = {}
        self.values: dict[int, str] = {}
        """What stands behind lines, from 1, while the machine runs."""
        self.awaited: dict[int, str] = {}
        """Lines of active steps with what they wait on."""
        self.offers: Callable[[str], list[tuple[str, str]]] | None = None
        """What is offered behind the text before the cursor in place of the words, and what is written for each."""
        self._offered: dict[str, str] = {}
        self.spot = (0, 0)
        """What was found last: it is seen while another widget has the keyboard."""
        self._known, self._states = QStringListModel(self), QStringListModel(self)
        self.words = QCompleter(self._known, self)
        self.words.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.words.setWidget(self)
        self.words.activated.connect(self._complete)
        self.set_words([])
        self._line = -1
        self.blockCountChanged.connect(lambda _: self._fit())
        self.updateRequest.connect(self._scrolled)
        self.cursorPositionChanged.connect(self._moved)
        self._fit()

    def set_words(self, known: list[str]) -> None:
        """What is completed beside the words of the language."""
        self._known.setStringList(sorted({*known, *KEYWORDS, *FUNCTION_NAMES}, key=str.lower))

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in THEME_CHANGES and self._dark != theme.dark:
            self.read_theme()

    def read_theme(self) -> None:
        self._dark = theme.dark
        self.colours.read_theme()
        self.decorate()

    # -- values

    def lines_in_sight(self) -> dict[int, str]:
        """The lines that can be seen, from 1, with their text."""
        block, found = self.firstVisibleBlock(), {}
        while block.isValid():
            if self.blockBoundingGeometry(block).translated(self.contentOffset()).top() > self.viewport().height():
                break
            found[block.blockNumber() + 1] = block.text()
            block = block.next()
        return found

    def show_values(self, values: dict[int, str], awaited: dict[int, str]) -> None:
        if (values, awaited) != (self.values, self.awaited):
            self.values, self.awaited = values, awaited
            self.viewport().update()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if not self.values and not self.awaited:
            return
        painter = QPainter(self.viewport())
        painter.setFont(code_font(11))
        for line, text in (self.values | self.awaited).items():
            painter.setPen(theme.colour("false" if line in self.awaited else "faint"))
            block = self.document().findBlockByNumber(line - 1)
            if block.isValid() and block.isVisible():
                box = self.blockBoundingGeometry(block).translated(self.contentOffset())
                x = box.left() + self.fontMetrics().horizontalAdvance(block.text()) + 28
                area = QRect(int(x), int(box.top()), max(0, self.viewport().width() - int(x) - 4), int(box.height()))
                shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, area.width())
                painter.drawText(area, Qt.AlignmentFlag.AlignVCenter, shown)

    # -- margin

    def margin_width(self) -> int:
        return 18 + self.fontMetrics().horizontalAdvance("9") * max(3, len(str(self.blockCount())))

    def _fit(self) -> None:
        self.setViewportMargins(self.margin_width(), 0, 0, 0)

    def _scrolled(self, rect: QRect, dy: int) -> None:
        if dy:
            self.numbers.scroll(0, dy)
        else:
            self.numbers.update(0, rect.y(), self.numbers.width(), rect.height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        area = self.contentsRect()
        self.numbers.setGeometry(area.left(), area.top(), self.margin_width(), area.height())

    def paint_numbers(self, event: QPaintEvent) -> None:
        painter = QPainter(self.numbers)
        painter.fillRect(event.rect(), theme.colour("raised"))
        painter.setFont(code_font(11))
        block: QTextBlock = self.firstVisibleBlock()
        wrong = {f.line for f in self.faults}
        while block.isValid():
            box = self.blockBoundingGeometry(block).translated(self.contentOffset())
            if box.top() > event.rect().bottom():
                break
            line = block.blockNumber() + 1
            if line in self.notes:
                mark = QRect(self.numbers.width() - 8, int(box.center().y()) - 3, 6, 6)
                painter.setRenderHint(QPainter.RenderHint.Antialiasing)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.colour("late"))
                painter.drawEllipse(mark)
            if line in wrong:
                painter.fillRect(QRect(0, int(box.top()), 4, int(box.height())), theme.colour("late"))
            elif line in self.marked:
                painter.fillRect(QRect(0, int(box.top()), 4, int(box.height())), theme.colour(self.marked[line]))
            painter.setPen(theme.colour("ink" if line == self.line else "faint"))
            area = QRect(4, int(box.top()), self.numbers.width() - 12, int(box.height()))
            painter.drawText(area, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, str(line))
            block = block.next()

    # -- places

    @property
    def line(self) -> int:
        return self.textCursor().blockNumber() + 1

    def go_to(self, line: int, column: int = 1) -> None:
        """Puts the cursor at a line and column, from 1, and brings it into the middle if it was out of sight."""
        block = self.document().findBlockByNumber(line - 1)
        if block.isValid():
            cursor = QTextCursor(block)
            cursor.movePosition(
                QTextCursor.MoveOperation.Right,
                QTextCursor.MoveMode.MoveAnchor,
                min(column - 1, max(0, block.length() - 1)),
            )
            self.setTextCursor(cursor)
            self.centerCursor()

    def mark(self, begin: int, end: int) -> None:
        """Selects a stretch of the text and brings it into the middle."""
        cursor = self.textCursor()
        cursor.setPosition(begin)
        cursor.setPosition(end, QTextCursor.MoveMode.KeepAnchor)
        self.spot = (begin, end)
        self.setTextCursor(cursor)
        self.centerCursor()
        self.decorate()

    def note_lines(self, notes: dict[int, str]) -> None:
        """Lines that a finding is about, with what it says."""
        if notes != self.notes:
            self.notes = notes
            self.decorate()
            self.numbers.update()
            self.numbers.setToolTip(plain("\n".join(f"{n}: {text}" for n, text in sorted(notes.items()))))

    def _moved(self) -> None:
        self.decorate()
        if self.line != self._line:
            self._line = self.line
            self.numbers.update()
            self.moved.emit(self._line)

    def show_faults(self, faults: list[Fault]) -> None:
        self.faults = faults
        self.decorate()
        self.numbers.update()

    def mark_lines(self, marked: dict[int, str]) -> None:
        if marked != self.marked:
            self.marked = marked
            self.decorate()
            self.numbers.update()

    def decorate(self) -> None:
        """Draws the cursor's line, active steps, faults and matching brackets."""
        extra: list[QTextEdit.ExtraSelection] = []
        for line, colour in self.marked.items():
            extra.append(self._whole_line(line, theme.colour("active_soft" if colour == "active" else "accent_soft")))
        extra.append(self._whole_line(self.line, theme.colour("selection")))
        for line in self.notes:
            cursor = QTextCursor(self.document().findBlockByNumber(line - 1))
            cursor.select(QTextCursor.SelectionType.LineUnderCursor)
            extra.append(self._form(cursor, underline=theme.colour("false")))
        for f in self.faults:
            block = self.document().findBlockByNumber(f.line - 1)
            if block.isValid():
                cursor = QTextCursor(block)
                cursor.setPosition(block.position() + min(max(0, f.column - 1), max(0, block.length() - 1)))
                cursor.movePosition(QTextCursor.MoveOperation.EndOfWord, QTextCursor.MoveMode.KeepAnchor)
                if not cursor.hasSelection():
                    cursor.movePosition(QTextCursor.MoveOperation.EndOfBlock, QTextCursor.MoveMode.KeepAnchor)
                extra.append(self._form(cursor, underline=theme.colour("late")))
        if self.spot[1] > self.spot[0] and self.textCursor().selectionEnd() == self.spot[1]:
            cursor = self.textCursor()
            cursor.setPosition(self.spot[0])
            cursor.setPosition(self.spot[1], QTextCursor.MoveMode.KeepAnchor)
            extra.append(self._form(cursor, ground=theme.colour("found")))
        for at in self._brackets():
            cursor = self.textCursor()
            cursor.setPosition(at)
            cursor.movePosition(QTextCursor.MoveOperation.Right, QTextCursor.MoveMode.KeepAnchor)
            extra.append(self._form(cursor, ground=theme.colour("accent_soft")))
        self.setExtraSelections(extra)

    def _whole_line(self, line: int, ground: QColor) -> QTextEdit.ExtraSelection:
        selection = self._form(QTextCursor(self.document().findBlockByNumber(line - 1)), ground=ground)
        selection.format.setProperty(QTextFormat.Property.FullWidthSelection, True)
        return selection

    @staticmethod
    def _form(
        cursor: QTextCursor, ground: QColor | None = None, underline: QColor | None = None
    ) -> QTextEdit.ExtraSelection:
        selection = QTextEdit.ExtraSelection()
        form = QTextCharFormat()
        if ground is not None:
            form.setBackground(ground)
        if underline is not None:
            form.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            form.setUnderlineColor(underline)
        selection.format, selection.cursor = form, cursor
        return selection

    def _brackets(self) -> list[int]:
        """Positions of the bracket at the cursor and of the one that belongs to it."""
        text, at = self.toPlainText(), self.textCursor().position()
        for here in (at, at - 1):
            if not 0 <= here < len(text) or text[here] not in _PAIRS:
                continue
            own, other = text[here], _PAIRS[text[here]]
            step, depth, place = (1, 0, here) if own == "(" else (-1, 0, here)
            while 0 <= place < len(text) and abs(place - here) < 20_000:
                depth += 1 if text[place] == own else -1 if text[place] == other else 0
                if depth == 0:
                    return [here, place]
                place += step
        return []

    # -- typing

    def event(self, event: QEvent) -> bool:
        """Undo and redo are those of the machine file where nothing was typed here: what was applied is taken back at once."""
        if event.type() is QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent):
            text = self.document()
            undo, redo = (event.matches(key) for key in (QKeySequence.StandardKey.Undo, QKeySequence.StandardKey.Redo))
            if (undo and not text.isUndoAvailable()) or (redo and not text.isRedoAvailable()):
                event.ignore()
                return True
        return super().event(event)

    def _word(self) -> str:
        before = self.textCursor().block().text()[: self.textCursor().positionInBlock()]
        found = re.search(r"[A-Za-z_][\w.]*$", before)
        return found[0] if found else ""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        popup = self.words.popup()
        shown = popup is not None and popup.isVisible()
        if shown and popup is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab):
            chosen = popup.currentIndex().data() or self.words.currentCompletion()
            popup.hide()
            self._complete(chosen)
            return
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not event.modifiers():
            self._begin_line()
            return
        if event.key() == Qt.Key.Key_Tab and not event.modifiers():
            self.insertPlainText(" " * INDENT)
            return
        asked = event.key() == Qt.Key.Key_Space and bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if not asked:
            super().keyPressEvent(event)
        self._offer(asked or bool(event.text().strip()), 1 if asked else 2)

    def _begin_line(self) -> None:
        """A new line as deep as the one that ends here, or deeper where that one opens a block; one that ends a block moves out."""
        cursor = self.textCursor()
        cursor.beginEditBlock()
        block = cursor.block()
        depth, before = _depth(block.text()), block.previous()
        while before.isValid() and not before.text().strip():
            before = before.previous()
        if _CLOSES.match(block.text()) and depth >= INDENT and before.isValid():
            above = _depth(before.text()) + (INDENT if _OPENS.search(before.text()) else 0)
            if depth >= above:
                line = QTextCursor(block)
                line.movePosition(QTextCursor.MoveOperation.NextCharacter, QTextCursor.MoveMode.KeepAnchor, INDENT)
                line.removeSelectedText()
                depth -= INDENT
        opens = _OPENS.search(block.text()[: cursor.positionInBlock()])
        cursor.insertText("\n" + " " * (depth + (INDENT if opens else 0)))
        cursor.endEditBlock()
        self.setTextCursor(cursor)
        self.ensureCursorVisible()

    def _offer(self, typed: bool, least: int) -> None:
        word, popup = self._word(), self.words.popup()
        if popup is None:
            return
        cursor = self.textCursor()
        before = cursor.block().text()[: cursor.positionInBlock()]
        offered = self.offers(before) if self.offers is not None else []
        if offered and typed:
            self._offer_these(offered, before)
            return
        self._offered = {}
        if not typed or len(word) < least:
            popup.hide()
            return
        if self.words.model() is not self._known:
            self.words.setModel(self._known)
        self.words.setCompletionPrefix(word)
        if self.words.completionCount() and self.words.currentCompletion().lower() != word.lower():
            box = self.cursorRect()
            box.translate(self.margin_width(), 4)
            box.setWidth(280)
            self.words.complete(box)
        else:
            popup.hide()

    def _offer_these(self, offered: list[tuple[str, str]], before: str) -> None:
        """What is offered in the place of words: those in which what is typed occurs, by number or by name."""
        found = re.search(r"\w*$", before)
        typed = found[0] if found else ""
        popup = self.words.popup()
        self._offered = {title: text for title, text in offered if typed.lower() in title.lower()}
        if not self._offered or typed in self._offered.values():
            self._offered = {}
            if popup is not None:
                popup.hide()
            return
        self._states.setStringList(list(self._offered))
        self.words.setModel(self._states)
        self.words.setCompletionPrefix("")
        box = self.cursorRect()
        box.translate(self.margin_width(), 4)
        box.setWidth(280)
        self.words.complete(box)

    def _complete(self, word: str) -> None:
        cursor = self.textCursor()
        before = cursor.block().text()[: cursor.positionInBlock()]
        typed = re.search(r"\w*$", before)
        taken = self._offered.get(word)
        length = len(self._word()) if taken is None else len(typed[0]) if typed else 0
        cursor.movePosition(QTextCursor.MoveOperation.Left, QTextCursor.MoveMode.KeepAnchor, length)
        cursor.insertText(word if taken is None else taken)
