"""Every command of the window, in the order of its menus."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from spokeshave.desktop.commands import Command
from spokeshave.desktop.ribbon import STAGES

if TYPE_CHECKING:
    from spokeshave.desktop.window import MainWindow


def command_list(w: MainWindow) -> list[Command]:
    """The table: identifier, name, menu, shortcut, what it does, icon, when it is possible."""

    def in_sequence() -> bool:
        return w.stage in (2, 4) and bool(w.sequences_in_view().names)

    sheet = w.sequences_in_view

    def can_run() -> bool:
        return w.runner.session is not None

    history = w.document
    stages = [
        Command(
            f"go.{name.lower()}",
            name,
            "Go",
            f"Ctrl+{i + 1}",
            partial(w.show_stage, i),
            says=f"Go to stage {i + 1}, {name}",
        )
        for i, name in enumerate(STAGES)
    ]
    return [
        Command("file.new", "New", "File", "Ctrl+N", w.new_file, says="Begin an empty machine file"),
        Command("file.open", "Open ...", "File", "Ctrl+O", w.ask_open, "open", says="Open a machine file or IEC text"),
        Command("file.save", "Save", "File", "Ctrl+S", w.save, "save", lambda: history.dirty),
        Command("file.saveas", "Save as ...", "File", "Ctrl+Shift+S", w.ask_save),
        Command("file.quit", "Quit", "File/-", "Ctrl+Q", w.close),
        Command("edit.undo", "Undo", "Edit", "Ctrl+Z", history.undo, "undo", lambda: bool(history.history.undo_name)),
        Command("edit.redo", "Redo", "Edit", "Ctrl+Shift+Z", history.redo, "redo", lambda: bool(history.history.redo_name)),
        Command("edit.find", "Find anything ...", "Edit/-", "Ctrl+K", w.open_finder, "find", says="By a few letters"),
        Command("edit.filter", "Filter the outline", "Edit", "Ctrl+F", w.focus_filter),
        *stages,
        Command("go.sheet", "Sheet", "Go/-", "F6", lambda: w.show_face("sheet"), "sheet", in_sequence),
        Command("go.chart", "Chart", "Go", "F7", lambda: w.show_face("chart"), "chart", in_sequence),
        Command("go.outline", "Fold the outline", "Go/-", "F3", w.toggle_outline),
        Command("go.details", "Fold the details", "Go", "F4", w.toggle_details),
        Command("go.lower", "Fold the lists below", "Go", "F9", w.toggle_lower, "panel"),
        Command("go.dark", "Light or dark", "Go", "Ctrl+Shift+D", w.toggle_dark),
        Command("seq.insert", "Insert a step after", "Sequence", "Ctrl+I", lambda: sheet().insert_step(), "insert", in_sequence,
                "A step after the selected one, with a number in between (Insert in the sheet)"),
        Command("seq.delete", "Delete the step or way out", "Sequence", "Ctrl+Backspace", lambda: sheet().delete(), "delete", in_sequence),
        Command("seq.way", "Add a way out", "Sequence", "Ctrl+Shift+I", lambda: sheet().add_way(), "way", in_sequence,
                "One more transition out of the selected step"),
        Command("seq.up", "Move the row up", "Sequence/-", "Alt+Up", lambda: sheet().move_row(-1), "up", in_sequence),
        Command("seq.down", "Move the row down", "Sequence", "Alt+Down", lambda: sheet().move_row(1), "down", in_sequence),
        Command("seq.renumber", "Renumber in tens", "Sequence", "", w.renumber, "", in_sequence),
        Command("seq.new", "New sequence", "Sequence/-", "", w.new_sequence, "add"),
        Command("run.start", "Start", "Run", "F5", w.runner.toggle, "start", can_run, "Start or pause the run"),
        Command("run.scan", "One scan", "Run", "F10", w.runner.one_scan, "scan", can_run),
        Command("run.back", "Back one scan", "Run", "Shift+F10", w.runner.back, "back", can_run),
        Command("run.nextstep", "Run to the next step change", "Run", "F11", w.runner.next_step, "nextstep", can_run),
        Command("run.reset", "Reset", "Run", "Shift+F5", w.runner.reset, "reset", says="Back to before scan 0"),
        Command("run.power", "Power cycle", "Run/-", "", lambda: w.runner.do("power"), "", can_run),
        Command("run.ack", "Acknowledge all alarms", "Run", "", lambda: w.runner.do("ack"), "", can_run),
        Command("proof.all", "Run all scenarios", "Proof", "Ctrl+R", w.run_proof, "proof"),
        Command("proof.record", "Write the record ...", "Proof", "", w.ask_record),
        Command("help.keys", "Keys and commands", "Help", "F1", w.show_help),
    ]  # fmt: skip
