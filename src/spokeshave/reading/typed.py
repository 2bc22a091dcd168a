"""What is wrong with a declaration of a function or a block while it is typed."""

from __future__ import annotations

from spokeshave.engine.names import SlotTable
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_routines import body_at, read_routine
from spokeshave.language.syntax import Problem
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project
from spokeshave.model.table_edits import put_routine


def problems_in_routine(project: Project, name: str, text: str) -> list[Problem]:
    """Problems of the text of the routine `name`, with line and column in that text."""
    kinds = [r.name for r in project.routines if r.is_block], [t.row_type for t in project.tables if t.row_type]
    try:
        made = read_routine(text, *kinds)
        after = put_routine(project, name, made)
    except FormatError as error:
        return [Problem(error.line or 1, error.column or 1, error.message, error.advice)]
    except EditError as error:
        return [Problem(1, 1, str(error))]
    line, column, left = body_at(text, *kinds)
    out = []
    for place, p in SlotTable(after).routines.problems():
        if place.item.lower() == made.name.lower():
            first = p.line == 1
            out.append(Problem(p.line + line - 1, p.column + (column - 1 if first else left), p.message, p.advice))
    return out
