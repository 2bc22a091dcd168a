"""The file of the plain style: declarations as a person groups them, one block a sequence where there are several."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import groupby

from spokeshave.formats.code.pieces import Variable
from spokeshave.formats.code.units import Unit, units_of
from spokeshave.formats.code.write import Generated
from spokeshave.formats.iec_tables import table_declaration
from spokeshave.language.literals import value_text
from spokeshave.model.project import Project, Signal, SignalClass

_BLOCKS = {
    SignalClass.INPUT: "VAR_INPUT",
    SignalClass.OUTPUT: "VAR_OUTPUT",
    SignalClass.INTERNAL: "VAR",
    SignalClass.SETTING: "VAR (* settings *)",
}
_GLOBALS = {
    SignalClass.INPUT: "VAR_GLOBAL (* inputs *)",
    SignalClass.OUTPUT: "VAR_GLOBAL (* outputs *)",
    SignalClass.INTERNAL: "VAR_GLOBAL",
    SignalClass.SETTING: "VAR_GLOBAL (* settings *)",
}


def blocks_of(made: Generated) -> list[str]:
    """The blocks in which the steps of the sequences change; none where the program does it itself."""
    return [block for block, _ in made.units.values()]


def plain_head(project: Project, made: Generated) -> str:
    """The head of the plain style: variables of one type on a line, one block for all that belongs together."""
    head = (
        f"what each scan took stands in {made.scan_time}, by which the times go"
        if made.scan_time
        else "the times of this program assume it"
    )
    out = f"(* Task period {project.period_ms} ms: {head}. *)\n"
    return out + (_several(project, made) if made.units else _one(project, made))


def _one(project: Project, made: Generated) -> str:
    """The head of a program that does all of it."""
    addressed = [s for s in project.signals if s.address]
    out, scan_time = "", [v for v in made.variables if v.name == made.scan_time]
    if addressed:
        out += _block("VAR_GLOBAL", [_declared(s) for s in addressed], "")
    out += f"PROGRAM {made.name}\n"
    if addressed:
        out += _block("VAR_EXTERNAL", _grouped([(s.name, str(s.type), "") for s in addressed]))
    out += _signals_and_tables(project, "VAR", [s for s in project.signals if not s.address], _BLOCKS, "  ")
    out += _block("VAR_INPUT", _helpers(scan_time))
    helpers = [Variable(i.name, i.kind) for i in project.instances]
    helpers += [v for v in made.variables if not v.retain and v not in scan_time]
    return (
        out + _block("VAR", _helpers(helpers)) + _block("VAR RETAIN", _helpers(v for v in made.variables if v.retain))
    )


def _several(project: Project, made: Generated) -> str:
    """The variables that all share, the blocks of the sequences, and the head of the program that calls them."""
    units = units_of(made)
    out = _signals_and_tables(project, "VAR_GLOBAL", list(project.signals), _GLOBALS, "")
    for retain in (False, True):
        out += _block("VAR_GLOBAL" + " RETAIN" * retain, _helpers(v for v in units.shared if v.retain is retain), "")
    common = [(s.name, str(s.type), "") for s in project.signals]
    common += [(t.name, _kind(table_declaration(t)), "") for t in project.tables]
    common += [(v.name, v.kind, "") for v in units.shared]
    order = list(dict.fromkeys(kind for _, kind, _ in common))
    common.sort(key=lambda v: order.index(v[1]))

    def declared(unit: Unit, *more: tuple[str, str, str]) -> str:
        """What a unit names of all this, and what it has alone."""
        text = _block("VAR_EXTERNAL", _grouped(v for v in common if v[0].lower() in unit.words))
        mine = [v for v in unit.own if v.name != made.scan_time]
        text += _block("VAR", _grouped(more) + _helpers(v for v in mine if not v.retain))
        return text + _block("VAR RETAIN", _helpers(v for v in mine if v.retain))

    for name, u in zip(made.units, units.blocks):
        out += f"\nFUNCTION_BLOCK {u.name} (* the steps of {name} *)\n{declared(u)}\n{u.text}END_FUNCTION_BLOCK\n"
    out += f"\nPROGRAM {made.program}\n"
    out += _block("VAR_INPUT", _helpers(v for v in made.variables if v.name == made.scan_time))
    return out + declared(units.program, *((i, b, "") for b, i in made.units.values()))


def _signals_and_tables(
    project: Project, word: str, signals: list[Signal], openers: dict[SignalClass, str], indent: str
) -> str:
    """The variables of the model: a block for each class and for those that are retained, one for each table."""
    out = ""
    for cls, opener in openers.items():
        for retain in (False, True):
            mine = [s for s in signals if s.cls is cls and s.retain is retain]
            kept = retain and cls is not SignalClass.SETTING
            out += _block(opener + " RETAIN" * kept, _signals(mine), indent)
    for t in project.tables:
        words = [word] + ["RETAIN"] * t.retain + ["(* settings *)"] * (t.cls is SignalClass.SETTING)
        out += _block(" ".join(words), table_declaration(t).splitlines(), indent)
    return out


def _helpers(variables: Iterable[Variable]) -> list[str]:
    return _grouped((v.name, v.kind, v.initial) for v in variables)


def _kind(declaration: str) -> str:
    """The type of a table as it is declared."""
    return declaration.partition(" : ")[2].rstrip(";").partition(" := ")[0]


def _signals(mine: list[Signal]) -> list[str]:
    plain = [(s.name, str(s.type), "") for s in mine if s.initial is None and not s.comment and not s.address]
    return _grouped(plain) + [_declared(s) for s in mine if s.initial is not None or s.comment or s.address]


def _declared(s: Signal) -> str:
    comment = " ".join(s.comment.split()).replace("*)", "* )")
    return signal_declaration(s) + f" (* {comment} *)" * bool(comment)


def _grouped(variables: Iterable[tuple[str, str, str]]) -> list[str]:
    """Declarations, names of one type and initial value together."""
    lines: list[str] = []
    for (kind, initial), group in groupby(variables, key=lambda v: v[1:]):
        of = f" : {kind}{f' := {initial}' * bool(initial)};"
        names: list[str] = []
        for name, _, _ in group:
            if names and sum(map(len, names)) + 2 * len(names) + len(name) > 90:
                lines.append(", ".join(names) + of)
                names = []
            names.append(name)
        lines.append(", ".join(names) + of)
    return lines


def _block(opener: str, lines: list[str], indent: str = "  ") -> str:
    """A block of declarations, on one line if it is short."""
    if not lines:
        return ""
    one = f"{indent}{opener} {' '.join(lines)} END_VAR\n"
    if len(one) <= 120 and not any("(*" in line for line in lines):
        return one
    return f"{indent}{opener}\n" + "".join(f"{indent}  {line}\n" for line in lines) + f"{indent}END_VAR\n"


def signal_declaration(s: Signal) -> str:
    """`Name AT %IX0.0 : BOOL := TRUE;`"""
    address = f" AT {s.address}" if s.address else ""
    initial = "" if s.initial is None else f" := {value_text(s.initial, s.type)}"
    return f"{s.name}{address} : {s.type}{initial};"
