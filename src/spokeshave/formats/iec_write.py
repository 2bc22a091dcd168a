"""A machine file as IEC 61131-3 text: declarations, charts, opening and closing logic, and the pragma."""

from __future__ import annotations

from spokeshave.formats.code.finals import left_out, unprotected
from spokeshave.formats.code.units import program_text
from spokeshave.formats.code.write import Generated, generate
from spokeshave.formats.iec_plain import blocks_of, plain_head, signal_declaration
from spokeshave.formats.iec_routines import routine_text
from spokeshave.formats.iec_tables import table_declaration, types_text
from spokeshave.formats.pragma import code_pragma, make_pragma
from spokeshave.language.rename import free_program_names
from spokeshave.language.sub_sequences import written_out
from spokeshave.model.project import Project, Sequence, SignalClass

_BLOCKS = {
    SignalClass.INPUT: "VAR_INPUT",
    SignalClass.OUTPUT: "VAR_OUTPUT",
    SignalClass.INTERNAL: "VAR",
    SignalClass.SETTING: "VAR CONSTANT",
}


def write_iec(project: Project, pragma: bool = True) -> str:
    """The whole machine file as text. Reading it back gives the same machine file (without the pragma, less of it).

    A project of one sequence declares its signals in the program; several share them in VAR_GLOBAL.
    """
    given, project = project, written_out(project)
    parts: list[str] = []
    if pragma and (left := not_in_charts(project)):
        parts.append(f"(* {left} *)\n")
    parts += [types_text(project.tables), *map(routine_text, project.routines)]
    single = len(project.sequences) == 1 and not project.opening and not project.closing
    if not single:
        parts.append(_declarations(project, shared=True))
    opening, closing = free_program_names(project)
    if project.opening:
        parts.append(_plain(opening, project.opening))
    for q in project.sequences:
        parts.append(_chart(project, q, single))
    if project.closing:
        parts.append(_plain(closing, project.closing))
    if pragma:
        parts.append(make_pragma(given) + "\n")
    return "\n".join(p for p in parts if p)


def not_in_charts(project: Project) -> str:
    """What protects the machine and stands in no chart, in words; empty for nothing."""
    q = project.sequences
    kinds = {
        "interlocks": project.interlocks,
        "opposed pairs": project.opposed,
        "trips": project.trips,
        "alarms": project.alarms,
        "holds": [s for s in q if s.hold_when.strip()],
        "restarts": [s for s in q if s.restart_when.strip()],
        "permissives": [s for x in q for s in x.steps if s.permissive.strip()],
        "time windows": [s for x in q for s in x.steps if s.longest.strip() or s.shortest.strip()],
    }
    named = [kind for kind, found in kinds.items() if found]
    if not named:
        return ""
    return (
        f"{', '.join(named)} of this machine stand in the pragma only, which other readers skip: "
        "a controller that runs these charts is not protected by them; write code with --style case or --style flags"
    )


def write_code(project: Project, style: str, protect: bool = True, measured: bool = False) -> str:
    """The machine file as one program of plain structured text, in a style of `formats.code`: `case` or `flags`.
    Without `protect` interlocks and opposed pairs are left out, and the head of the text says so; `measured` as in `generate`.

    Raises `FormatError` where the style cannot say what a chart does, with the reason.
    """
    made = generate(project if protect else unprotected(project), style, measured)
    gap = "\n" * (style == "plain")
    pragma = code_pragma(project, style, protect, measured and style == "plain", blocks_of(made))
    return f"{code_head(project, made, style, protect)}{gap}{program_text(made)}END_PROGRAM\n\n{pragma}\n"


def code_head(project: Project, made: Generated, style: str, protect: bool = True) -> str:
    """What stands above the statements of generated code: comments, types, routines, declarations, blocks of its own."""
    out = "" if protect or not (left := left_out(project)) else f"(* Not protected: this code leaves out {left} *)\n"
    out += "\n".join(filter(None, [types_text(project.tables), *map(routine_text, project.routines)]))
    out += "\n" * bool(project.tables or project.routines)
    if style == "plain":
        return out + plain_head(project, made)
    out += f"PROGRAM {made.name}\n"
    out += "".join(f"  {line}\n" for line in _declarations(project, shared=False).splitlines())
    for retain in (False, True):
        mine = [v for v in made.variables if v.retain is retain]
        if mine:
            lines = "".join(f"    {v.name} : {v.kind}{f' := {v.initial}' * bool(v.initial)};\n" for v in mine)
            out += f"  VAR{' RETAIN' if retain else ''} (* of the code *)\n{lines}  END_VAR\n"
    return out


def _declarations(project: Project, shared: bool) -> str:
    out = ""
    for cls, opener in _BLOCKS.items():
        for retain in (False, True):
            chosen = [s for s in project.signals if s.cls is cls and s.retain is retain]
            if not chosen:
                continue
            head = opener if not shared else "VAR_GLOBAL CONSTANT" if cls is SignalClass.SETTING else "VAR_GLOBAL"
            out += f"{head}{' RETAIN' if retain else ''}\n"
            out += "".join(f"  {signal_declaration(s)}\n" for s in chosen)
            out += "END_VAR\n"
    for t in project.tables:
        head = ("VAR_GLOBAL" if shared else "VAR") + " CONSTANT" * (t.cls is SignalClass.SETTING) + " RETAIN" * t.retain
        comment = " ".join(t.comment.split()).replace("*)", "* )")
        out += f"{head}\n  {table_declaration(t)}{f' (* {comment} *)' * bool(comment)}\nEND_VAR\n"
    if project.instances:
        lines = "".join(f"  {i.name} : {i.kind};\n" for i in project.instances)
        out += f"{'VAR_GLOBAL' if shared else 'VAR'}\n{lines}END_VAR\n"
    return out


def _plain(name: str, text: str) -> str:
    return f"PROGRAM {name}\n{text.rstrip()}\nEND_PROGRAM\n"


def _chart(project: Project, q: Sequence, single: bool) -> str:
    out = f"PROGRAM {q.name}\n"
    if single:
        out += "".join(f"  {line}\n" for line in _declarations(project, shared=False).splitlines())
    for s in q.steps:
        out += f"  {'INITIAL_STEP' if s.name == q.initial else 'STEP'} {s.name}:\n"
        for a in s.actions:
            out += f"    {a.target}({a.qualifier}{', ' + a.time if a.time else ''});\n"
        out += "  END_STEP\n"
    for t in q.transitions:
        name = f" {t.name}" if t.name else ""
        priority = "" if t.priority is None else f" (PRIORITY := {t.priority})"
        out += f"  TRANSITION{name}{priority} FROM {_ends(t.sources)} TO {_ends(t.targets)} := {_inline(t.condition)};"
        out += " END_TRANSITION\n"
    for b in q.bodies:
        out += f"  ACTION {b.name}:\n{b.text}\n  END_ACTION\n"
    return out + "END_PROGRAM\n"


def _ends(names: tuple[str, ...]) -> str:
    return names[0] if len(names) == 1 else f"({', '.join(names)})"


def _inline(condition: str) -> str:
    """A condition whose last comment runs to the end of its line needs that end."""
    return f"{condition}\n" if "//" in condition else condition
