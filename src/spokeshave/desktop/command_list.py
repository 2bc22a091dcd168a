"""Every command of the window, in the order of its menus."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from spokeshave.desktop.bench.values import unforce_all
from spokeshave.desktop.commands import Command
from spokeshave.desktop.stages import PROOF, TITLES

if TYPE_CHECKING:
    from spokeshave.desktop.proof.rows import RowsView
    from spokeshave.desktop.sequence.chart_view import ChartView
    from spokeshave.desktop.sequence.editor import SequenceEditor
    from spokeshave.desktop.window import MainWindow


def command_list(w: MainWindow) -> list[Command]:
    """The table: identifier, name, menu, shortcut, what it does, icon, when it is possible."""

    def in_sequence() -> bool:
        return w.stage in (2, 4) and bool(w.sequences_in_view().names)

    sheet = w.sequences_in_view
    charts, printing = w.chart_commands, w.printing

    bench = w.bench_commands

    def edit() -> SequenceEditor:
        return sheet().editor

    def chart() -> ChartView | None:
        return sheet().chart

    def in_chart() -> bool:
        return in_sequence() and sheet().chart is not None

    def can_run() -> bool:
        return w.runner.session is not None

    def in_stage() -> bool:
        return w.stage >= 0

    def in_proof() -> bool:
        return w.stage == PROOF and w.proof.scenarios.scenario is not None

    def runs() -> bool:
        return PROOF in w.pages.made and w.proof.worker is not None

    history = w.document

    def rows() -> RowsView:
        return w.proof.scenarios.view

    stages = [
        Command(
            f"go.{name.lower()}",
            name,
            "Go",
            f"Ctrl+{i + 1}",
            partial(w.show_stage, i),
            says=f"Go to stage {i + 1}, {name}",
        )
        for i, name in enumerate(TITLES)
    ]
    return [
        Command("file.new", "New", "File", "Ctrl+N", w.new_file, says="Begin an empty machine file"),
        Command("file.open", "Open ...", "File", "Ctrl+O", w.ask_open, "open", says="Open a machine file or IEC text"),
        Command("file.window", "New window", "File", "Ctrl+Shift+N", lambda: w.open_beside(None),
                says="One more window of the program, for another file"),
        Command("file.table", "Import a table ...", "File", "", w.import_table,
                says="Add a sequence from a spreadsheet: what each column is taken as is shown first"),
        Command("file.export", "Export as tables ...", "File", "", w.export_table,
                says="Write the sequences as a workbook, with the signals beside them"),
        Command("file.compare", "Compare with a file ...", "File", "", w.ask_compare,
                says="What differs from another version, in words and in the chart"),
        Command("file.merge", "Merge with a file ...", "File", "", w.ask_merge,
                says="Puts what somebody else changed into this file; what both changed is a choice each"),
        Command("file.compare.saved", "Compare with the saved one", "File", "", w.compare_with_saved, "",
                lambda: w.document.path is not None, says="What was edited since the file was saved"),
        Command("file.keep.mine", "Keep mine in all conflicts", "File", "", w.keep_mine, "", lambda: bool(w.document.project.conflicts),
                "Lets the findings go that a merge has left"),
        Command("file.save", "Save", "File", "Ctrl+S", w.save, "save"),
        Command("file.saveas", "Save as ...", "File", "Ctrl+Shift+S", w.ask_save),
        Command("file.brief", "Import a brief ...", "File/-", "", w.ask_brief, says="Sentences from a text or a spreadsheet"),
        Command("file.svg", "Export the chart as SVG ...", "File/-", "", charts.ask_svg, "", in_sequence),
        Command("file.chart.pdf", "Export the chart as PDF ...", "File", "", charts.ask_pdf, "", in_sequence, "Over pages with a frame"),
        Command("file.chart.print", "Print the chart ...", "File", "", charts.ask_print, "", in_sequence),
        Command("file.pdf", "Export as PDF ...", "File", "", printing.ask_pdf, "", in_stage, says="The stage in view"),
        Command("file.print", "Print ...", "File", "Ctrl+P", printing.preview, "", in_stage, says="The stage in view, with a preview of its pages"),
        Command("file.quit", "Quit", "File/-", "Ctrl+Q", w.close),
        Command("edit.undo", "Undo", "Edit", "Ctrl+Z", history.undo, "undo", lambda: bool(history.history.undo_name)),
        Command("edit.redo", "Redo", "Edit", "Ctrl+Shift+Z", history.redo, "redo", lambda: bool(history.history.redo_name)),
        Command("edit.find", "Find anything ...", "Edit/-", "Ctrl+K", w.open_finder, "find", says="By a few letters"),
        Command("edit.search", "Find and replace", "Edit", "Ctrl+F", lambda: sheet().find_bar.open_bar(), "", in_sequence, "In the sequence in view"),
        Command("edit.everywhere", "Find in the whole file", "Edit", "Ctrl+Alt+F", lambda: w.program.find(), "", lambda: True,
                "Names, words, rows of scenarios, times however they are written"),
        Command("edit.uses", "Where it is used", "Edit", "Ctrl+Alt+U", lambda: w.program.show_uses(), "", lambda: w.program.can_show_uses(),
                "Every line that means what is selected"),
        Command("edit.filter", "Filter the outline", "Edit", "Ctrl+Shift+F", w.focus_filter),
        *stages,
        Command("go.sheet", "Sheet", "Go/-", "F6", lambda: w.show_face("sheet"), "sheet", in_sequence),
        Command("go.chart", "Chart", "Go", "F7", lambda: w.show_face("chart"), "chart", in_sequence),
        Command("go.code", "Code", "Go", "F8", lambda: w.show_face("code"), "code", in_sequence),
        Command("go.scene", "Scene", "Go", "", w.show_scene, says="The machine drawn: shapes that move as the devices do"),
        Command("go.outline", "Fold the outline", "Go/-", "F3", w.toggle_outline),
        Command("go.details", "Fold the details", "Go", "F4", w.toggle_details),
        Command("go.lower", "Fold the lists below", "Go", "F9", w.toggle_lower, "panel"),
        Command("go.dark", "Light or dark", "Go", "Ctrl+Shift+D", w.toggle_dark),
        Command("edit.preferences", "Preferences ...", "Edit", "Ctrl+,", w.program.ask_preferences,
                says="Colours, size, scan period of new files, saving"),
        Command("seq.insert", "Insert a step after", "Sequence", "Ctrl+I", lambda: edit().do("after"), "insert", in_sequence,
                "A step after the selected one, with a number in between (Insert in sheet and chart)"),
        Command("seq.before", "Insert a step before", "Sequence", "Ctrl+Shift+I", lambda: edit().do("before"), "", in_sequence,
                "A step before the selected one: all that led there leads to it (Shift+Insert in sheet and chart)"),
        Command("seq.alternative", "Add an alternative branch", "Sequence", "Ctrl+B", lambda: edit().do("alternative"), "way", in_sequence,
                "A step to be chosen instead of what follows the selected one"),
        Command("seq.simultaneous", "Add a simultaneous branch", "Sequence", "Ctrl+Shift+B", lambda: edit().do("simultaneous"), "both", in_sequence,
                "A step that is active beside the selected ones; both are waited for"),
        Command("seq.close", "Close the branch", "Sequence", "", lambda: edit().do("close"), "", in_sequence,
                "Leads the end of a branch to where its neighbours meet"),
        Command("seq.way", "Add a way out", "Sequence", "Ctrl+J", lambda: edit().add_way(), "", in_sequence,
                "One more transition out of the selected step, to the initial step; type elsewhere in Next"),
        Command("seq.delete", "Delete the steps or way out", "Sequence/-", "Ctrl+Backspace", lambda: edit().delete(), "delete", in_sequence),
        Command("seq.branch", "Delete the branch", "Sequence", "", lambda: edit().do("branch"), "", in_sequence,
                "With all steps that are reached through it only"),
        Command("seq.duplicate", "Duplicate the steps", "Sequence", "Ctrl+D", lambda: edit().duplicate(), "", in_sequence),
        Command("seq.copy", "Copy steps as rows", "Sequence", "Ctrl+Shift+C", lambda: edit().copy(), "", in_sequence,
                "For a spreadsheet, or to paste elsewhere (Ctrl+C on a step)"),
        Command("seq.cut", "Cut steps as rows", "Sequence", "Ctrl+Shift+X", lambda: edit().cut(), "", in_sequence,
                "To paste them behind another step: so they move without the mouse"),
        Command("seq.paste", "Paste rows as steps", "Sequence", "Ctrl+Shift+V", lambda: edit().paste(), "", in_sequence,
                "Behind the selected step (Ctrl+V on a step)"),
        Command("seq.up", "Move the rows up", "Sequence/-", "Alt+Up", lambda: edit().move_row(-1), "up", in_sequence),
        Command("seq.down", "Move the rows down", "Sequence", "Alt+Down", lambda: edit().move_row(1), "down", in_sequence),
        Command("seq.initial", "Begin with this step", "Sequence", "", lambda: edit().do("initial"), "", in_sequence),
        Command("seq.renumber", "Renumber in tens", "Sequence", "", lambda: edit().renumber(10), "", in_sequence,
                "In the order of the rows; what texts say of the state follows"),
        Command("seq.spacing", "Renumber with a spacing ...", "Sequence", "", charts.ask_spacing, "", in_sequence),
        Command("seq.comments", "Show or hide comments", "Sequence/-", "", lambda: sheet().toggle_comments(), "", in_sequence),
        Command("seq.fold", "Fold or open the branch", "Sequence", "", charts.fold_branch, "", in_chart),
        Command("seq.follow", "Follow the active step", "Sequence", "", charts.toggle_follow, "", in_chart),
        Command("seq.overview", "Show or hide the overview", "Sequence", "", charts.toggle_overview, "", in_chart),
        Command("seq.all", "Show the whole chart", "Sequence", "Ctrl+0", charts.show_whole_chart, "", in_chart),
        Command("seq.column", "Show or hide a column ...", "Sequence", "", charts.ask_column, "", in_sequence,
                "An internal, or an output that another sequence acts on, as a column of the sheet"),
        Command("seq.form", "Name, hold, restart of the sequence", "Sequence/-", "", charts.show_form, "", in_sequence,
                "In the details: also what it keeps, where it begins, its place in the scan"),
        Command("seq.run", "Run a sequence in this step ...", "Sequence", "", charts.ask_run, "", in_sequence,
                "The step starts it, and goes on when it has come to its end"),
        Command("seq.modes", "Modes of the sequence ...", "Sequence", "", charts.ask_modes, "", in_sequence,
                "Single cycle or continuous, step by step, pause, a way home: made by a form"),
        Command("signal.block", "Declare a block", "Signals", "", w.declare_block, "", lambda: True,
                "A timer, a counter, an edge or a latch, for bodies and logic"),
        Command("file.form", "Name, scan period, reset and home", "Edit/-", "", w.show_file_form, "", lambda: True,
                "Of the machine file, in the details"),
        Command("seq.new", "New sequence", "Sequence/-", "", w.new_sequence, "add"),
        Command("run.start", "Start", "Run", "F5", w.runner.toggle, "start", can_run, "Start or pause the run"),
        Command("run.scan", "One scan", "Run", "F10", w.runner.one_scan, "scan", can_run),
        Command("run.back", "Back one scan", "Run", "Shift+F10", w.runner.back, "back", can_run),
        Command("run.nextstep", "Run to the next step change", "Run", "F11", w.runner.next_step, "nextstep", can_run),
        Command("run.to", "Run to a condition or a time", "Run", "Ctrl+F11", bench.go_to_bar, "", can_run,
                "Type a condition over the signals, or a time to go on or back to"),
        Command("run.reset", "Reset", "Run", "Shift+F5", w.runner.reset, "reset", says="Back to before scan 0"),
        Command("run.power", "Power cycle", "Run/-", "", w.runner.power_cycle, "", can_run),
        Command("run.ack", "Acknowledge all alarms", "Run", "", lambda: w.runner.do("ack"), "", can_run),
        Command("run.unforce", "All forces off", "Run", "", lambda: unforce_all(w.runner), "", can_run),
        Command("run.hand", "Hand drive", "Run", "Ctrl+H", lambda: w.bench.bar.toggle_hand(), "", can_run,
                "Holds the sequences; a click on a device turns over what drives it"),
        Command("run.keep", "Keep as scenario", "Run/-", "Ctrl+Shift+K", bench.keep_scenario, "", can_run,
                "What was done becomes rows, the situations it met become expectations"),
        Command("run.recording", "Lay a recording beside ...", "Run", "", w.showing.ask_recording, "", can_run,
                "Of a real machine (.csv, .xlsx, .vcd): its inputs are given, all else is compared in the timing diagram"),
        Command("run.stimuli", "Write the inputs as stimuli ...", "Run", "", bench.ask_stimuli, "", can_run,
                "What inputs and settings were so far, as CSV: run with it, the machine does the same again"),
        Command("run.interval", "Keep the interval between the cursors", "Run", "", lambda: w.bench.strip.keep_interval(), "", can_run),
        Command("run.snapshot", "Snapshot of the timing diagram ...", "Run", "", bench.ask_snapshot, "", can_run, "As a picture or as CSV"),
        Command("run.film", "Record the board", "Run", "", bench.toggle_film, "", can_run, "As an animated picture; again to end it"),
        Command("run.serve", "Serve over Modbus TCP ...", "Run", "", bench.show_serving, "", can_run,
                "An outside machine, an outside controller or an onlooker takes part in the run"),
        Command("run.against", "Against a controller ...", "Run", "", bench.show_against, "", can_run,
                "Scenarios with the controls in a controller outside, over Modbus TCP: where it does something else than the model"),
        Command("run.operator", "Operator page", "Run", "F12", lambda: bench.show_operator(), "", can_run,
                "Sequences, waiting lines and alarms only, on the whole screen"),
        Command("proof.all", "Run all scenarios", "Proof", "Ctrl+R", w.run_proof, "proof"),
        Command("proof.changed", "Run what changed", "Proof", "", w.run_what_changed, "", lambda: bool(w.document.ledger.to_run(w.document.project)),
                "The scenarios of which no verdict holds any more"),
        Command("proof.one", "Run this scenario", "Proof", "Ctrl+Shift+R", lambda: w.proof.run_selected(), "", in_proof),
        Command("proof.group", "Run the group", "Proof", "", lambda: w.proof.run_of_group(), "", in_proof),
        Command("proof.cancel", "Cancel the runs", "Proof", "", lambda: w.proof.stop(), "", runs),
        Command("proof.new", "Add a scenario", "Proof/-", "", w.add_scenario),
        Command("proof.propose", "Propose scenarios ...", "Proof", "", lambda: w.propose_scenarios(), "", in_stage,
                "For every way and every rule that no scenario shows"),
        Command("proof.row", "Insert a row", "Proof", "", lambda: rows().insert_row(), "", in_proof, "Below the current one (Insert in the rows)"),
        Command("proof.delete", "Delete the rows", "Proof", "", lambda: rows().delete_rows(), "", in_proof, "The selected ones (Delete in the rows)"),
        Command("proof.up", "Move the row up", "Proof", "", lambda: rows().move_row(-1), "", in_proof, "Also Alt+Up in the rows"),
        Command("proof.down", "Move the row down", "Proof", "", lambda: rows().move_row(1), "", in_proof, "Also Alt+Down in the rows"),
        Command("proof.tidy", "Tidy the rows", "Proof", "", lambda: w.proof.scenarios.tidy(), "", in_proof, "Every row in its usual form"),
        Command("proof.matrix", "Cause and effect", "Proof/-", "Ctrl+Shift+M", lambda: w.show_proof(w.proof.matrix),
                says="What protects, and what it does"),
        Command("proof.alarms", "Alarms", "Proof", "", lambda: w.show_proof(w.proof.alarms),
                says="What is told, how urgent it is, which scenario shows it"),
        Command("proof.faults", "Fault sweep", "Proof", "", lambda: w.show_proof(w.proof.sweep),
                says="Every fault in every step of a cycle"),
        Command("proof.sweep", "Sweep all faults", "Proof", "", lambda: w.proof.sweep.start(), "", lambda: w.stage == PROOF),
        Command("proof.reach", "Reachability", "Proof", "", lambda: w.show_proof(w.proof.study),
                says="What can be reached whatever the inputs do"),
        Command("proof.study", "Study what can be reached", "Proof", "", lambda: w.proof.study.start(), "", lambda: w.stage == PROOF),
        Command("proof.strength", "Strength", "Proof", "", lambda: w.show_proof(w.proof.strength),
                says="Which mistakes would nobody notice?"),
        Command("proof.room", "Room", "Proof", "", lambda: w.show_proof(w.proof.room),
                says="How much slower, longer or later before the first thing fails"),
        Command("proof.plant", "Plant mistakes", "Proof", "", lambda: w.proof.strength.start(), "", lambda: w.stage == PROOF),
        Command("proof.runs", "Accepted runs", "Proof", "", lambda: w.show_proof(w.proof.accepted),
                says="Compares the last runs with those that were accepted"),
        Command("proof.accept", "Accept the passed runs", "Proof", "", lambda: w.proof.accepted.accept_passed(), "",
                lambda: w.document.has_passed),
        Command("proof.table", "Write the results as a table ...", "Proof", "", w.showing.ask_table, "",
                says="Scenarios, rows, requirements and findings as a workbook"),
        Command("proof.record", "Write the record ...", "Proof", "", w.showing.ask_record),
        Command("help.manual", "Manual", "Help", "F1", w.program.show_manual, says="Beside the work, at what has the keyboard"),
        Command("help.start", "Start page", "Help", "", w.show_start, says="New, open, bring your own, recent files, examples"),
        Command("help.tour", "First machine", "Help", "", w.program.show_tour, says="In ten steps, in your own file; each is ticked when it is done"),
        Command("help.keys", "Keys and commands", "Help/-", "Ctrl+F1", w.program.show_keys),
        Command("help.about", "About Spokeshave", "Help", "", w.program.show_about, says="Versions and licences"),
    ]  # fmt: skip
