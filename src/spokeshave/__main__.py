"""The command line. A command that opens the desktop shows its first window before everything else is loaded."""

import contextlib
import os
import sys

from spokeshave import __version__

FILES = (".spoke", ".st", ".xml", ".xlsx", ".xlsm", ".ods", ".csv", ".tsv", ".txt")


def names_a_file(words: list[str]) -> bool:
    """Whether a command line is the name of a file alone, as a file manager says it."""
    return len(words) == 1 and not words[0].startswith("-") and os.path.splitext(words[0])[1].lower() in FILES


def main() -> None:
    """Runs the command line with the words of the process."""
    if sys.argv[1:] == ["--version"]:  # told without waiting for the command line
        print(f"Spokeshave {__version__}")
        return
    if names_a_file(sys.argv[1:]):
        sys.argv.insert(1, "open")
    display = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    if display and (len(sys.argv) < 2 or sys.argv[1] in ("open", "demo")):
        with contextlib.suppress(ImportError):  # told by the command itself
            from spokeshave.desktop.first_window import begin

            begin()
    from spokeshave.cli import main as run

    run()


if __name__ == "__main__":
    main()
