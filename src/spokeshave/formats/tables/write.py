"""Sequences as tables that one would hand to a colleague; read again, they are the same sequences.

A workbook has a sheet for each sequence, one of the signals, and one of the texts that no row has room for.
"""

from __future__ import annotations

import re
from collections.abc import Sequence as Items
from pathlib import Path

from spokeshave.formats.disk import write_bytes_atomically, write_text_atomically
from spokeshave.formats.errors import FormatError
from spokeshave.formats.sequencer_table import mark_text, next_text
from spokeshave.formats.tables.headings import STEP_WORDS, role_of
from spokeshave.formats.tables.pages import Page, book_bytes, csv_text
from spokeshave.language.literals import time_ms, time_text
from spokeshave.model.flow import rows_of
from spokeshave.model.project import Project, Sequence, Step, Transition

TEXTS = ("Sequence", "What", "Text")
"""Headings of the sheet of texts."""
BODIES = "Bodies"
RUNS = "Runs"


def targets_of(project: Project, q: Sequence) -> list[str]:
    """What the steps of a sequence act on: signals in listed order, then bodies, then sequences that they run."""
    acted = {a.target.lower() for s in q.steps for a in s.actions}
    signals = [s.name for s in project.signals if s.name.lower() in acted]
    runs = [a.target for s in q.steps for a in s.actions if a.qualifier.runs]
    return signals + [b.name for b in q.bodies if b.name.lower() in acted] + list(dict.fromkeys(runs))


def page_of(project: Project, q: Sequence) -> Page:
    """The table of a sequence. Columns that nothing uses are left out."""
    targets = targets_of(project, q)
    rows = [(r, q.steps[r.step], None if r.transition is None else q.transitions[r.transition]) for r in rows_of(q)]
    timed = {id(way): _own_time(step, way) for _, step, way in rows if way is not None}
    optional = {
        "Time": any(timed.values()),
        "Awaits": True,
        "Shortest": any(s.shortest for s in q.steps),
        "Longest": any(s.longest for s in q.steps),
        "When late": any(s.response != "alarm" for s in q.steps),
        "Permissive": any(s.permissive for s in q.steps),
        "Priority": any(t.priority is not None for t in q.transitions),
        "Way": any(t.name for t in q.transitions),
        "Next": True,
        "Flow": True,
        "Comment": any(s.comment for s in q.steps),
    }
    heads = ["No.", "Step", *map(_head, targets), *(h for h, wanted in optional.items() if wanted)]
    outputs = {s.name for s in project.signals}
    bodies = {b.name for b in q.bodies}
    groups = [
        "",
        "",
        *("Outputs" if t in outputs else BODIES if t in bodies else RUNS for t in targets),
        *(["Ways out"] if targets else []),
    ]
    out = []
    for r, step, way in rows:
        nowhere = way is None and not any(step.name in t.sources for t in q.transitions)
        cells = {
            "No.": str(step.number) if r.first else "",
            "Step": step.name if r.first else "",
            "Time": "" if way is None else timed[id(way)],
            "Awaits": "" if way is None or timed[id(way)] else way.condition.strip(),
            "Shortest": step.shortest.removeprefix("T#") if r.first else "",
            "Longest": step.longest.removeprefix("T#") if r.first else "",
            "When late": step.response if r.first and step.response != "alarm" else "",
            "Permissive": step.permissive if r.first else "",
            "Priority": "" if way is None or way.priority is None else str(way.priority),
            "Way": "" if way is None else way.name,
            "Next": "none" if nowhere else next_text(q, step, way) + _joined(step, way),
            "Flow": _flow(q, step, way),
            "Comment": step.comment if r.first else "",
        }  # fmt: skip
        marks = [mark_text(step, t) if r.first else "" for t in targets]
        out.append((cells["No."], cells["Step"], *marks, *(cells[h] for h, wanted in optional.items() if wanted)))
    above = (f"{q.name}, sequence of {project.name}",)
    return Page(q.name, above, tuple(groups), tuple(heads), tuple(out), frozenset(range(2, 2 + len(targets))))


def _head(target: str) -> str:
    """The heading of a signal; one that is a known heading too stands in brackets of its own."""
    return f"<{target}>" if role_of(target, STEP_WORDS) else target


def _own_time(step: Step, way: Transition) -> str:
    """The time of a way that awaits nothing but it, as it is written in a table; empty for another."""
    found = re.fullmatch(rf"{re.escape(step.name)}\.T >= (T#\S+)", way.condition)
    if found is None or len(way.sources) > 1:
        return ""
    try:
        return found[1].removeprefix("T#") if time_text(time_ms(found[1])) == found[1] else ""
    except ValueError:
        return ""


def _joined(step: Step, way: Transition | None) -> str:
    """The steps that a way waits for beside the one in whose row it stands."""
    others = [s for s in way.sources if s != step.name] if way is not None else []
    return f" with {' + '.join(others)}" if others else ""


def _flow(q: Sequence, step: Step, way: Transition | None) -> str:
    """Where a row leads, drawn: down, back up, on, to several at once."""
    if way is None:
        return ""
    at = {s.name: i for i, s in enumerate(q.steps)}
    if len(way.targets) > 1:
        return "⇉ " + ", ".join(str(q.steps[at[t]].number) for t in way.targets if t in at)
    there = at.get(way.targets[0], 0)
    if there == at[step.name] + 1:
        return "↓"
    return f"{'↑' if there <= at[step.name] else '↳'} {q.steps[there].number}"


def texts_of(q: Sequence) -> list[tuple[str, str, str]]:
    """What of a sequence stands in no row of its table."""
    rows = [(q.name, f"body {b.name}", b.text) for b in q.bodies]
    first = q.steps[0].name if q.steps else ""
    more = {
        "initial": q.initial if q.initial != first else "",
        "hold when": q.hold_when,
        "hold outputs": q.hold_outputs if q.hold_outputs != "keep" else "",
        "restart when": q.restart_when,
        "retain": "TRUE" if q.retain else "",
        "comment": q.comment,
    }  # fmt: skip
    return rows + [(q.name, what, text) for what, text in more.items() if text]


def write_tables(project: Project, path: Path) -> str:
    """Writes the sequences of a file as a workbook, or its only one as CSV. Gives what is not in it, in words.

    Raises `FormatError`.
    """
    if not project.sequences:
        raise FormatError("there is no sequence to write", advice="a table has the steps of a sequence in its rows")
    pages = [page_of(project, q) for q in project.sequences]
    if path.suffix.lower() == ".xlsx":
        write_bytes_atomically(_workbook(project, pages), path)
        return left_out(project, False)
    if len(pages) > 1:
        raise FormatError(
            f"there are {len(pages)} sequences, and CSV is one table", advice="write a workbook, with the suffix .xlsx"
        )
    write_text_atomically(csv_text(pages[0]), path)
    return left_out(project, True)


def left_out(project: Project, alone: bool) -> str:
    """What of a file is not in its tables; `alone` where there is no room for texts and signals."""
    kinds: dict[str, object] = {
        "opening logic": project.opening, "closing logic": project.closing, "interlocks": project.interlocks,
        "opposed pairs": project.opposed, "trips": project.trips, "alarms": project.alarms,
        "devices": project.devices, "scenarios": project.scenarios,
        "recipes": project.recipes, "requirements": project.requirements, "block instances": project.instances, "tables": project.tables,
        "functions and blocks": project.routines,
    }  # fmt: skip
    if alone:
        kinds |= {"bodies and other texts": any(texts_of(q) for q in project.sequences), "signals": project.signals}
    return ", ".join(kind for kind, found in kinds.items() if found)


def _workbook(project: Project, pages: Items[Page]) -> bytes:
    """A sheet for each sequence, one of the signals, and one of the texts if there are any."""
    from spokeshave.formats.signal_table import table_rows

    signals = table_rows(project.signals)
    texts = [row for q in project.sequences for row in texts_of(q)]
    sheets = [*pages, Page("Signals", (), (), tuple(signals[0]), tuple(map(tuple, signals[1:])))]
    return book_bytes([*sheets, Page("Texts", (), (), TEXTS, tuple(texts))] if texts else sheets)
