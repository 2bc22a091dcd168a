"""What is wrong with a file, and where."""

from __future__ import annotations


class FormatError(Exception):
    """A file that cannot be read; names the file, line, column or item, what is wrong and what would be right."""

    def __init__(self, message: str, *, line: int = 0, column: int = 0, item: str = "", advice: str = "") -> None:
        self.message, self.line, self.column, self.item, self.advice = message, line, column, item, advice
        self.file = ""
        super().__init__(message)

    def __str__(self) -> str:
        where = self.file
        if self.line:
            where += f"{':' if where else 'line '}{self.line}"
            if self.column:
                where += f":{self.column}"
        if self.item:
            where += f"{', ' if where else ''}{self.item}"
        text = f"{where}: {self.message}" if where else self.message
        return f"{text}; {self.advice}" if self.advice else text
