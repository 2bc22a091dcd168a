"""A machine file as one program of plain structured text that does in each scan what the charts do."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from textwrap import dedent, indent

from spokeshave.formats.code.control import Control
from spokeshave.formats.code.finals import ask_apart, write_finals
from spokeshave.formats.code.pieces import Code, Hole, Piece, Variable, Variables
from spokeshave.formats.code.plain import PlainStyle
from spokeshave.formats.code.protect import Protection
from spokeshave.formats.code.reached import reached
from spokeshave.formats.code.styles import CaseStyle, FlagStyle, Style
from spokeshave.formats.code.words import Words, write_edges
from spokeshave.formats.errors import FormatError
from spokeshave.language import syntax as sx
from spokeshave.language.literals import time_text
from spokeshave.language.parse import parse_statements
from spokeshave.language.sub_sequences import written_out
from spokeshave.model.project import Project

STYLES: dict[str, type[Style]] = {"plain": PlainStyle, "case": CaseStyle, "flags": FlagStyle}


@dataclass(frozen=True, slots=True)
class Generated:
    """A machine file written out. `active` tells for each `Sequence.Step.X` when the code has the step active."""

    project: Project
    maker: Style
    name: str
    pieces: tuple[Piece, ...]
    variables: tuple[Variable, ...]
    active: dict[str, str]
    evolutions: dict[str, tuple[int, int]] = field(default_factory=dict)
    """Of each sequence the pieces in which its steps change, from the first to the one behind the last."""
    units: dict[str, tuple[str, str]] = field(default_factory=dict)
    """Where each sequence has a block of its own in the file: the names of the block and of its instance."""
    program: str = ""
    """The name of the program that calls these blocks."""
    scan_time: str = ""
    """The variable that has what the last scan took, where times go by it."""

    @property
    def text(self) -> str:
        return self.between(0, len(self.pieces))

    def between(self, first: int, behind: int) -> str:
        """The text of some pieces."""
        return "".join(p if isinstance(p, str) else p.text for p in self.pieces[first:behind])

    def flag(self, column: str) -> str:
        """The internal of `as_project` that stands for a step flag."""
        return f"Is{list(self.active).index(column)}_{column.replace('.', '_')}"


def generate(project: Project, style: str, measured: bool = False, apart: bool = True) -> Generated:
    """The code of a machine file that can run, with all that protects. `measured`: clocks go by a variable `ScanTime`, in
    which the controller puts what its last scan took, not by the period. `apart`: several sequences have a block each in the
    plain style.

    Raises `FormatError` where it cannot be written in this style.
    """
    _refuse_returns(project)
    project = written_out(project)
    whole, project = project, reached(project) if style == "plain" else project
    variables = Variables(project)
    asked = ask_apart(project, variables)
    own = project.sequences[0].name if project.sequences else "Machine"
    name = own if style == "plain" else variables.name(f"{own}_Code")
    first_scan = variables.new("FirstScan", "BOOL", "TRUE")
    made = STYLES[style](project, variables)
    words = made.words = Words(project, variables, made, asked)
    words.plain_edges = "" if made.titled else first_scan
    period = time_text(project.period_ms)
    scan_time = variables.new("ScanTime", "TIME", period) if measured else ""
    period = scan_time or period
    protection = Protection(project, variables, made, period, first_scan)
    control = Control(project, variables, made, protection)
    if project.home.strip():
        words.home = variables.new("Home_Now")
    top, rest = Code(titled=made.titled), Code(titled=made.titled)
    resets = made.titled or protection.late_hold or any(t.latching for t in project.trips)
    reset = words.rising(project.reset, None) if project.reset.strip() and resets else "FALSE"
    # The phases behind the edges first: they tell which edges there are, and whose states are asked for.
    finals = Code(titled=made.titled)
    write_finals(project, words, variables, finals, period)
    words.before_edges = True
    home = words.expression(project.home, None) if project.home.strip() else ""
    opening = _put_in(words.statements(project.opening, None), made)
    words.before_edges = False
    evolutions = _sections(project, made, protection, control, rest, first_scan, reset)
    closing = _put_in(words.statements(project.closing, None), made)
    if made.states:  # some were asked for only after their places had passed
        rest = Code(titled=made.titled)
        evolutions = _sections(project, made, protection, control, rest, first_scan, reset)
    if project.closing.strip():
        rest.title("closing logic")
        rest.hole(Hole(("closing",), closing))
        rest.line("(* end of closing logic *)")
    rest.pieces += finals.pieces
    rest.lines(line for q in project.sequences for line in made.finish(q))
    top.title("times of active steps and of what is stored")
    free = [
        q
        for q in project.sequences
        if made.ticks_freely(q) and not protection.clocks[q.name] and q.name not in protection.run
    ]
    top.lines(line for q in free for line in protection.tick(q, "+"))
    top.when(
        f"NOT {first_scan}", (line for q in project.sequences if q not in free for line in protection.tick(q, "+"))
    )
    if home:
        top.title("home")
        top.line(f"{words.home} := ", Hole(("home",), home), ";")
    if project.opening.strip():
        top.title("opening logic")
        top.hole(Hole(("opening",), opening))
        top.line("(* end of opening logic *)")
    if words.edges:
        top.title("edges")
        write_edges(words, top, first_scan)
    active = {f"{q.name}.{s.name}.X": made.active(q, s) for q in project.sequences for s in q.steps}
    pieces = [*top.pieces, *rest.pieces]
    listed = variables.listed
    if any(first_scan in (p if isinstance(p, str) else p.text) for p in pieces):
        pieces += [f"  {first_scan} := FALSE;", "\n"]
    else:
        listed = [v for v in listed if v.name != first_scan]
    above = len(top.pieces)
    evolutions = {name: (first + above, behind + above) for name, (first, behind) in evolutions.items()}
    units, program = {}, ""
    if apart and style == "plain" and len(project.sequences) > 1:
        units = {q.name: (variables.name(f"{q.name}Steps"), variables.name(f"Run{q.name}")) for q in project.sequences}
        program = variables.name("Machine")
    return Generated(whole, made, name, tuple(pieces), tuple(listed), active, evolutions, units, program, scan_time)


def _put_in(text: str, style: Style) -> str:
    """Statements of the model as they stand; in the plain style indented like what is around them."""
    return text if style.titled else indent(dedent(text), "  ")


def _sections(
    project: Project, style: Style, protection: Protection, control: Control, code: Code, first_scan: str, reset: str
) -> dict[str, tuple[int, int]]:
    """The phases from trips to actions; gives the pieces in which the steps of each sequence change."""
    evolutions = {}
    if protection.run or protection.jumped or any(True for q in project.sequences for _ in style.forget(q, first_scan)):
        code.title("new steps are no longer new; trips, holds, restarts")
        protection.write(code, reset)
    for q in project.sequences:
        begins = len(code.pieces)
        code.title(f"evolution of {q.name}")
        parts = [
            protection.run.get(q.name, ""),
            f"NOT {protection.jumped[q.name]}" if q.name in protection.jumped else "",
            f"NOT {first_scan}" if style.needs_first(q) else "",
        ]
        test = " AND ".join(p for p in parts if p)
        if test:
            code.line(f"IF {test} THEN")
            code.indent += 1
        style.evolve(code, q)
        if test:
            code.indent -= 1
            code.line("END_IF;")
        style.count_states(code, q)
        code.lines(style.settle(q, protection.runs(q)))
        late = _late(protection, style, project, q.name)
        if protection.runs(q) == "TRUE" and not style.titled:
            code.lines(late)
        else:
            code.when(protection.runs(q), late)
        evolutions[q.name] = begins, len(code.pieces)
    code.title("actions")
    control.write(code)
    return evolutions


def _late(protection: Protection, style: Style, project: Project, name: str) -> Iterator[str]:
    q = project.sequence(name)
    assert q is not None
    for s in q.steps:
        own = style.kept[(q.name, s.name)]
        if not s.longest.strip() or not own.late:
            continue
        then = f"{own.late} := TRUE;"
        trip = next((t.name for t in project.trips if t.name.lower() == s.response.lower()), "")
        if trip:
            then += f" {protection.raised[trip]} := TRUE;"
        elif s.response == "hold":
            then += f" {protection.late_hold[q.name]} := TRUE;"
        yield f"IF {style.active(q, s)} AND NOT {own.late} AND {own.time} >= {s.longest.strip()} THEN {then} END_IF;"


def _refuse_returns(project: Project) -> None:
    texts = [("the opening logic", project.opening), ("the closing logic", project.closing)]
    texts += [(f"the body {b.name} of {q.name}", b.text) for q in project.sequences for b in q.bodies]
    for where, text in texts:
        if _returns(parse_statements(text)):
            raise FormatError(
                f"{where} has a RETURN, which would end the whole scan here",
                advice="write IF around what it leaves out",
            )


def _returns(statements: tuple[sx.Statement, ...]) -> bool:
    return any(
        (isinstance(s, sx.Jump) and s.kind == "RETURN") or any(_returns(b) for b in sx.children(s)[1])
        for s in statements
    )
