"""PLCopen XML into IEC text, and that into a machine file; what is wrong is told with its place in the XML."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from xml.etree.ElementTree import Element

from spokeshave.formats.disk import bytes_of
from spokeshave.formats.errors import FormatError, reading
from spokeshave.formats.plcopen.chart import Chart, body_text, fault, language, only_body
from spokeshave.formats.plcopen.tree import Lines, child, children, fragment, local, parsed, text_of
from spokeshave.model.edits import replaced
from spokeshave.model.project import Project

OWN = "spokeshave"
"""The name of our own additional data."""
_BLOCKS = {
    "inputVars": "VAR_INPUT", "outputVars": "VAR_OUTPUT", "localVars": "VAR", "tempVars": "VAR_TEMP", "externalVars": "VAR_EXTERNAL",
    "globalVars": "VAR_GLOBAL", "inOutVars": "VAR_IN_OUT",
}  # fmt: skip


@dataclass
class Text:
    """The IEC text of an XML file, with what it cannot say."""

    lines: Lines = field(default_factory=Lines)
    comments: dict[str, dict[str, str]] = field(default_factory=dict)
    """Comments of steps, by the name of their program."""
    foreign: list[tuple[str, str]] = field(default_factory=list)
    """Additional data of others: of which part, and the XML of it."""
    pragma: str = ""
    name: str = ""


def read_xml(path: Path) -> Project:
    """The machine file of a PLCopen XML file. Raises `FormatError` with the place in the XML."""
    with reading(path):
        return project_of(bytes_of(path))


def project_of(data: bytes) -> Project:
    """As `read_xml`, of the bytes of a file. Raises `FormatError`."""
    from spokeshave.formats.iec_read import parse_iec

    text = text_of_xml(data)
    try:
        project = parse_iec(text.lines.text + text.pragma)
    except FormatError as error:
        raise located(error, text) from None
    return completed(project, text)


def located(error: FormatError, text: Text) -> FormatError:
    """A fault of the IEC text with its place in the XML it came from."""
    if not error.line or error.item:
        return error
    return FormatError(error.message, item=text.lines.place(error.line), advice=error.advice)


def completed(project: Project, text: Text) -> Project:
    """The machine file with the comments of steps and the additional data of others."""
    if not text.pragma:
        project = replace(project, name=text.name or project.name)
        for i, q in enumerate(project.sequences):
            said = text.comments.get(q.name, {})
            steps = tuple(replace(s, comment=said.get(s.name, s.comment)) for s in q.steps)
            project = replace(project, sequences=replaced(project.sequences, i, replace(q, steps=steps)))
    return replace(project, foreign=tuple(text.foreign)) if text.foreign else project


def text_of_xml(data: bytes) -> Text:
    """The IEC text of a PLCopen XML file. Raises `FormatError`."""
    root = parsed(data)
    head = child(root, "contentHeader")
    out = Text(name=head.get("name", "") if head is not None else "")
    _additional(root, "project", out)
    if period := _period(root):
        out.lines.add(f"(* Task period {period} ms *)", "tasks")
    for t in children(child(root, "types", "dataTypes"), "dataType"):
        _data_type(t, out)
    pous = list(children(child(root, "types", "pous"), "pou"))
    for pou in pous:
        if pou.get("pouType") in ("function", "functionBlock"):
            _routine(pou, out)
    for c in children(child(root, "instances", "configurations"), "configuration"):
        for e in (c, *children(c, "resource")):
            for block in children(e, "globalVars"):
                _variables(block, f"global variables of {e.get('name', '')}", out)
    for pou in pous:
        if pou.get("pouType") not in ("function", "functionBlock"):
            _program(pou, out)
    if not pous:
        raise FormatError("there is no program in this file", advice="a project has its programs in types, pous")
    return out


def _additional(e: Element, place: str, out: Text) -> None:
    for data in children(child(e, "addData"), "data"):
        if data.get("name") == OWN:
            out.pragma = "".join(data.itertext()).strip()
        else:
            out.foreign.append((place, fragment(data)))


def _period(root: Element) -> int:
    """The period of the first task in ms; 0 if none says it."""
    for e in root.iter():
        if local(e) == "task" and e.get("interval"):
            text = str(e.get("interval"))
            found = re.fullmatch(r"P(?:T(?:([0-9.]+)S)?)", text)
            try:
                if found and found[1]:
                    return round(float(found[1]) * 1000)
                from spokeshave.language.literals import time_ms

                return time_ms(text)
            except ValueError:
                return 0
    return 0


def _data_type(t: Element, out: Text) -> None:
    name = t.get("name", "")
    place = f"type {name}"
    base = child(t, "baseType")
    struct, enum = child(base, "struct"), child(base, "enum")
    if enum is not None:
        values = [
            f"{v.get('name', '')}{' := ' + str(v.get('value')) if v.get('value') else ''}"
            for v in children(child(enum, "values"), "value")
        ]
        out.lines.add(f"TYPE {name} : ({', '.join(values)}); END_TYPE", place)
    elif struct is not None:
        out.lines.add(f"TYPE {name} : STRUCT", place)
        for v in children(struct, "variable"):
            out.lines.add(f"  {_declaration(v, place)}", f"{place}, {v.get('name', '')}")
        out.lines.add("END_STRUCT; END_TYPE", place)
    else:
        raise fault(place, "it is no STRUCT and no list of names", "write the type where the variable is declared")


def _type(e: Element | None, place: str) -> str:
    kind = next(children(e), None)
    if kind is None:
        raise fault(place, "it has no type")
    name = local(kind)
    if name == "derived":
        return kind.get("name", "")
    if name == "array":
        bounds = ", ".join(f"{d.get('lower', '')}..{d.get('upper', '')}" for d in children(kind, "dimension"))
        return f"ARRAY [{bounds}] OF {_type(child(kind, 'baseType'), place)}"
    if name in ("subrangeSigned", "subrangeUnsigned"):
        return _type(child(kind, "baseType"), place)
    if name == "pointer":
        raise fault(place, "it is a pointer", "pointers are not read")
    return name.upper()


def _declaration(v: Element, place: str) -> str:
    name = v.get("name", "")
    at = f" AT {v.get('address')}" if v.get("address") else ""
    initial = child(v, "initialValue")
    value = f" := {_value(initial, place)}" if initial is not None and len(initial) else ""
    comment = " ".join(text_of(child(v, "documentation")).split()).replace("*)", "* )")
    return f"{name}{at} : {_type(child(v, 'type'), f'{place}, {name}')}{value};{f' (* {comment} *)' if comment else ''}"


def _value(e: Element, place: str) -> str:
    kind = next(children(e), None)
    if kind is None:
        return ""
    if local(kind) == "simpleValue":
        return kind.get("value", "")
    if local(kind) == "arrayValue":
        parts = []
        for v in children(kind, "value"):
            again = v.get("repetitionValue", "1")
            parts.append(_value(v, place) if again == "1" else f"{again}({_value(v, place)})")
        return f"[{', '.join(parts)}]"
    if local(kind) == "structValue":
        members = [f"{v.get('member', '')} := {_value(v, place)}" for v in children(kind, "value")]
        return f"({', '.join(members)})"
    raise fault(place, "its initial value is not read")


def _variables(block: Element, place: str, out: Text) -> None:
    words = [_BLOCKS[local(block)]]
    words += ["CONSTANT"] * (block.get("constant") in ("true", "1")) + ["RETAIN"] * (
        block.get("retain") in ("true", "1")
    )
    found = list(children(block, "variable"))
    if found:
        out.lines.add(" ".join(words), place)
        for v in found:
            out.lines.add(f"  {_declaration(v, place)}", f"{place}, variable {v.get('name', '')}")
        out.lines.add("END_VAR", place)


def _interface(pou: Element, place: str, out: Text) -> Iterator[Element]:
    for block in children(child(pou, "interface")):
        if local(block) in _BLOCKS:
            _variables(block, place, out)
            yield block


def _routine(pou: Element, out: Text) -> None:
    name = pou.get("name", "")
    place = f"pou {name}"
    word = "FUNCTION" if pou.get("pouType") == "function" else "FUNCTION_BLOCK"
    kind = f" : {_type(child(pou, 'interface', 'returnType'), place)}" if word == "FUNCTION" else ""
    out.lines.add(f"{word} {name}{kind}", place)
    list(_interface(pou, place, out))
    out.lines.add(f"{body_text(only_body(pou, place), place)}\nEND_{word}", place)
    _additional(pou, place, out)


def _program(pou: Element, out: Text) -> None:
    name = pou.get("name", "")
    place = f"pou {name}"
    out.lines.add(f"PROGRAM {name}", place)
    list(_interface(pou, place, out))
    body = only_body(pou, place)
    written = language(body, place)
    if written is not None and local(written) == "SFC":
        out.comments[name] = Chart(pou, written, place).write(out.lines)
    else:
        out.lines.add(body_text(body, place), place)
    out.lines.add("END_PROGRAM", place)
    _additional(pou, place, out)
