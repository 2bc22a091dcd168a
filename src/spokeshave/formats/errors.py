"""What is wrong with a file, and where."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from spokeshave.model.diagnostics import Told, clipped


class FormatError(Told):
    """A file that cannot be read; names the file, line, column or item, what is wrong and what would be right."""

    def __init__(self, message: str, *, line: int = 0, column: int = 0, item: str = "", advice: str = "") -> None:
        self.message, self.advice, self.item = clipped(message), clipped(advice), clipped(item)
        self.line, self.column = line, column
        self.file = ""
        super().__init__(self.message)

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


@contextmanager
def reading(path: Path) -> Iterator[None]:
    """Turns what goes wrong while a file is read into a `FormatError` that names the file.

    Raises that `FormatError`.
    """
    try:
        yield
        return
    except UnicodeDecodeError as error:
        failure = FormatError(f"byte {error.start} is not UTF-8", advice="save it as UTF-8 text")
    except OSError as error:
        failure = FormatError(error.strerror or str(error))
    except FormatError as error:
        failure = error
    failure.file = str(path)
    raise failure from None
