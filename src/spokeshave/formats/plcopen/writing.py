"""A machine file as PLCopen XML, TC6 version 2.01: charts with the coordinates of their drawing, texts as structured text."""

from __future__ import annotations

from collections.abc import Iterable
from xml.etree.ElementTree import Element, ParseError, SubElement, fromstring, indent, tostring

from spokeshave.chart.layout import Layout, layout
from spokeshave.formats.plcopen.reading import OWN
from spokeshave.formats.pragma import make_pragma
from spokeshave.language.literals import time_text, value_text
from spokeshave.language.rename import free_program_names
from spokeshave.language.sub_sequences import written_out
from spokeshave.model.project import (
    Instance,
    Member,
    Project,
    Routine,
    Sequence,
    Signal,
    SignalClass,
    Table,
    Type,
    Value,
)

SPACE = "http://www.plcopen.org/xml/tc6_0201"
TEXT_SPACE = "http://www.w3.org/1999/xhtml"
_INTERFACE = {
    SignalClass.INPUT: ("inputVars", False), SignalClass.OUTPUT: ("outputVars", False), SignalClass.INTERNAL: ("localVars", False),
    SignalClass.SETTING: ("localVars", True),
}  # fmt: skip
_ROLES = {"input": "inputVars", "output": "outputVars", "variable": "localVars", "constant": "localVars", "temporary": "tempVars",
          "external": "externalVars"}  # fmt: skip


def write_xml(project: Project) -> str:
    """The text of the file. What the format has no place for stands in additional data of our own, which others skip."""
    given, project = project, written_out(project)
    root = Element("project", {"xmlns": SPACE})
    SubElement(
        root,
        "fileHeader",
        {
            "companyName": "",
            "productName": "spokeshave",
            "productVersion": "1",
            "creationDateTime": "1970-01-01T00:00:00",
        },
    )
    head = SubElement(root, "contentHeader", {"name": project.name})
    sizes = SubElement(head, "coordinateInfo")
    for kind in ("fbd", "ld", "sfc"):
        SubElement(SubElement(sizes, kind), "scaling", {"x": "1", "y": "1"})
    types = SubElement(root, "types")
    kinds = SubElement(types, "dataTypes")
    for t in {t.row_type.lower(): t for t in project.tables if t.row_type}.values():
        struct = SubElement(SubElement(SubElement(kinds, "dataType", {"name": t.row_type}), "baseType"), "struct")
        for c in t.columns:
            SubElement(SubElement(SubElement(struct, "variable", {"name": c.name}), "type"), c.type.value)
    pous = SubElement(types, "pous")
    for r in project.routines:
        _routine(pous, r)
    single = len(project.sequences) == 1 and not project.opening and not project.closing
    opening, closing = free_program_names(project)
    programs = []
    if project.opening:
        programs.append(_program(pous, opening, project.opening))
    for q in project.sequences:
        pou = SubElement(pous, "pou", {"name": q.name, "pouType": "program"})
        programs.append(q.name)
        face = SubElement(pou, "interface")
        if single:
            _signals(face, project, shared=False)
        _chart(pou, q)
        _foreign(pou, project, f"pou {q.name}")
    if project.closing:
        programs.append(_program(pous, closing, project.closing))
    configurations = SubElement(SubElement(root, "instances"), "configurations")
    configuration = SubElement(configurations, "configuration", {"name": "Machine"})
    resource = SubElement(configuration, "resource", {"name": "Controller"})
    task = SubElement(resource, "task", {"name": "Scan", "interval": time_text(project.period_ms), "priority": "0"})
    for name in programs:
        SubElement(task, "pouInstance", {"name": name, "typeName": name})
    if not single:
        _signals(resource, project, shared=True)
    extra = SubElement(root, "addData")
    own = SubElement(extra, "data", {"name": OWN, "handleUnknown": "discard"})
    SubElement(own, "text", {"xmlns": ""}).text = make_pragma(given)
    _foreign(root, project, "project", extra)
    indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(root, encoding="unicode") + "\n"


def _foreign(e: Element, project: Project, place: str, extra: Element | None = None) -> None:
    """Additional data of others, as they were read."""
    for where, text in project.foreign:
        if where == place:
            extra = SubElement(e, "addData") if extra is None else extra
            try:
                extra.append(fromstring(text))
            except ParseError:
                continue


def _text(parent: Element, text: str) -> None:
    """A formatted text, as texts of programs and documentation are."""
    SubElement(parent, "p", {"xmlns": TEXT_SPACE}).text = text


def _structured(parent: Element, text: str) -> None:
    _text(SubElement(parent, "ST"), text)


def _document(parent: Element, text: str) -> None:
    if text:
        _text(SubElement(parent, "documentation"), text)


def _program(pous: Element, name: str, text: str) -> str:
    pou = SubElement(pous, "pou", {"name": name, "pouType": "program"})
    SubElement(pou, "interface")
    _structured(SubElement(pou, "body"), text)
    return name


# -- variables


def _block(parent: Element, name: str, constant: bool, retain: bool) -> Element:
    return SubElement(parent, name, {k: "true" for k, on in (("constant", constant), ("retain", retain)) if on})


def _signals(parent: Element, project: Project, shared: bool) -> None:
    for cls, (kind, constant) in _INTERFACE.items():
        for retain in (False, True):
            mine = [s for s in project.signals if s.cls is cls and s.retain is retain]
            if mine:
                block = _block(parent, "globalVars" if shared else kind, constant, retain)
                for s in mine:
                    _signal(block, s)
    for t in project.tables:
        _table(_block(parent, "globalVars" if shared else "localVars", t.cls is SignalClass.SETTING, t.retain), t)
    if project.instances:
        block = _block(parent, "globalVars" if shared else "localVars", False, False)
        for i in project.instances:
            _instance(block, i)


def _variable(block: Element, name: str, address: str = "") -> tuple[Element, Element]:
    v = SubElement(block, "variable", {"name": name} | ({"address": address} if address else {}))
    return v, SubElement(v, "type")


def _signal(block: Element, s: Signal) -> None:
    v, kind = _variable(block, s.name, s.address)
    SubElement(kind, s.type.value)
    if s.initial is not None:
        SubElement(SubElement(v, "initialValue"), "simpleValue", {"value": value_text(s.initial, s.type)})
    _document(v, s.comment)


def _instance(block: Element, i: Instance) -> None:
    SubElement(_variable(block, i.name)[1], "derived", {"name": i.kind})


def _table(block: Element, t: Table) -> None:
    v, kind = _variable(block, t.name)
    inner = kind
    if t.indexed:
        array = SubElement(kind, "array")
        SubElement(array, "dimension", {"lower": str(t.first), "upper": str(t.last)})
        inner = SubElement(array, "baseType")
    SubElement(inner, *(("derived", {"name": t.row_type}) if t.row_type else (t.columns[0].type.value,)))
    value = SubElement(v, "initialValue")
    rows = SubElement(value, "arrayValue") if t.indexed else value
    for row in t.rows:
        _row(SubElement(rows, "value") if t.indexed else rows, t, row)
    _document(v, t.comment)


def _row(parent: Element, t: Table, row: tuple[Value, ...]) -> None:
    if not t.row_type:
        SubElement(parent, "simpleValue", {"value": value_text(row[0], t.columns[0].type)})
        return
    struct = SubElement(parent, "structValue")
    for c, value in zip(t.columns, row):
        SubElement(SubElement(struct, "value", {"member": c.name}), "simpleValue", {"value": value_text(value, c.type)})


def _routine(pous: Element, r: Routine) -> None:
    pou = SubElement(pous, "pou", {"name": r.name, "pouType": "functionBlock" if r.is_block else "function"})
    face = SubElement(pou, "interface")
    if r.result:
        SubElement(SubElement(face, "returnType"), r.result)
    last: tuple[str, bool] | None = None
    block = face
    for m in r.members:
        if (m.role, m.retain) != last:
            last = (m.role, m.retain)
            block = _block(face, _ROLES[m.role], m.role == "constant", m.retain)
        _member(block, m)
    _structured(SubElement(pou, "body"), r.text)


def _member(block: Element, m: Member) -> None:
    v, kind = _variable(block, m.name)
    SubElement(kind, *((m.type,) if m.type in Type.__members__ else ("derived", {"name": m.type})))
    if m.initial is not None:
        SubElement(SubElement(v, "initialValue"), "simpleValue", {"value": value_text(m.initial, Type(m.type))})
    _document(v, m.comment)


# -- charts


def _chart(pou: Element, q: Sequence) -> None:
    if q.bodies:
        actions = SubElement(pou, "actions")
        for b in q.bodies:
            _structured(SubElement(SubElement(actions, "action", {"name": b.name}), "body"), b.text)
    named = [t for t in q.transitions if t.name]
    if named:
        transitions = SubElement(pou, "transitions")
        for t in named:
            _structured(SubElement(SubElement(transitions, "transition", {"name": t.name}), "body"), t.condition)
    _Sfc(SubElement(SubElement(pou, "body"), "SFC"), q).write()
    _document(pou, q.comment)


class _Sfc:
    """Numbers the elements of a chart and joins them. Steps that a way leads back to are reached by jumps."""

    def __init__(self, parent: Element, q: Sequence) -> None:
        self.parent, self.q = parent, q
        self.plan: Layout = layout(q)
        self.boxes = {b.step: b for b in self.plan.boxes}
        self.bars = {b.transition: b for b in self.plan.bars}
        self.at = {s.name: i for i, s in enumerate(q.steps)}
        self.next = 0
        self.steps = {s.name: self._number() for s in q.steps}
        self.ways = [self._number() for _ in q.transitions]
        self.into: dict[str, list[tuple[int, str]]] = {s.name: [] for s in q.steps}
        """What leads to a step from above: elements and their outputs."""

    def _number(self) -> int:
        self.next += 1
        return self.next

    def _element(self, name: str, ident: int, x: float, y: float, attributes: dict[str, str] | None = None) -> Element:
        e = SubElement(self.parent, name, {"localId": str(ident), **(attributes or {})})
        SubElement(e, "position", {"x": str(round(x)), "y": str(round(y))})
        return e

    @staticmethod
    def _in(e: Element, sources: Iterable[tuple[int, str]]) -> None:
        point = SubElement(e, "connectionPointIn")
        for ident, output in sources:
            SubElement(
                point, "connection", {"refLocalId": str(ident)} | ({"formalParameter": output} if output else {})
            )

    def write(self) -> None:
        q = self.q
        leaving = {s.name: [n for n, t in enumerate(q.transitions) if s.name in t.sources] for s in q.steps}
        before: dict[int, list[tuple[int, str]]] = {n: [] for n in range(len(q.transitions))}
        """What a transition takes from, for each of its steps."""
        splits: list[tuple[int, str, list[int]]] = []
        for s in q.steps:
            ways = leaving[s.name]
            if len(ways) > 1:
                ident = self._number()
                splits.append((ident, s.name, ways))
                for k, n in enumerate(ways):
                    before[n].append((ident, f"out{k + 1}"))
            else:
                for n in ways:
                    before[n].append((self.steps[s.name], "sfc"))
        jumps: list[tuple[int, str, str, int]] = []
        forks: list[tuple[int, int, int]] = []
        for n, t in enumerate(q.transitions):
            source, output = self.ways[n], ""
            if len(t.targets) > 1:
                source = self._number()
                forks.append((source, n, len(t.targets)))
            for k, target in enumerate(t.targets):
                output = f"out{k + 1}" if len(t.targets) > 1 else ""
                if self.at[target] <= max(self.at[s] for s in t.sources):
                    jumps.append((source, output, target, n))
                else:
                    self.into[target].append((source, output))
        merges = {s.name: self._number() for s in q.steps if len(self.into[s.name]) > 1}
        self._steps(merges)
        for ident, name, ways in splits:
            box = self.boxes[self.at[name]]
            e = self._element("selectionDivergence", ident, box.x, box.y + box.h)
            self._in(e, [(self.steps[name], "sfc")])
            for k in range(len(ways)):
                SubElement(e, "connectionPointOut", {"formalParameter": f"out{k + 1}"})
        self._transitions(before)
        for ident, n, count in forks:
            bar = self.bars.get(n)
            e = self._element("simultaneousDivergence", ident, bar.x if bar else 0, (bar.y if bar else 0) + 10)
            self._in(e, [(self.ways[n], "")])
            for k in range(count):
                SubElement(e, "connectionPointOut", {"formalParameter": f"out{k + 1}"})
        for name, ident in merges.items():
            box = self.boxes[self.at[name]]
            e = self._element("selectionConvergence", ident, box.x, box.y - 10)
            for one in self.into[name]:
                self._in(e, [one])
            SubElement(e, "connectionPointOut")
        for source, output, target, n in jumps:
            bar = self.bars.get(n)
            e = self._element(
                "jumpStep", self._number(), bar.x if bar else 0, (bar.y if bar else 0) + 30, {"targetName": target}
            )
            self._in(e, [(source, output)])

    def _steps(self, merges: dict[str, int]) -> None:
        for s in self.q.steps:
            box = self.boxes[self.at[s.name]]
            more = {
                "name": s.name,
                "initialStep": "true" if s.name == self.q.initial else "false",
                "width": str(round(box.w)),
                "height": str(round(box.h)),
            }
            e = self._element("step", self.steps[s.name], box.x, box.y, more)
            sources = [(merges[s.name], "")] if s.name in merges else self.into[s.name]
            if sources:
                self._in(e, sources)
            SubElement(e, "connectionPointOut", {"formalParameter": "sfc"})
            if s.actions:
                SubElement(e, "connectionPointOutAction", {"formalParameter": "sfc"})
            _document(e, s.comment)
            if s.actions:
                block = self._element("actionBlock", self._number(), box.actions_x, box.y)
                self._in(block, [(self.steps[s.name], "sfc")])
                for a in s.actions:
                    qualified = {"localId": str(self._number()), "qualifier": a.qualifier.value} | (
                        {"duration": a.time} if a.time else {}
                    )
                    action = SubElement(block, "action", qualified)
                    SubElement(action, "relPosition", {"x": "0", "y": "0"})
                    SubElement(action, "reference", {"name": a.target})

    def _transitions(self, before: dict[int, list[tuple[int, str]]]) -> None:
        for n, t in enumerate(self.q.transitions):
            bar = self.bars.get(n)
            x, y = (bar.x, bar.y) if bar is not None else (0.0, 0.0)
            sources = before[n]
            if len(sources) > 1:
                join = self._number()
                e = self._element("simultaneousConvergence", join, x, y - 10)
                for one in self._in_order(n, sources):
                    self._in(e, [one])
                SubElement(e, "connectionPointOut")
                sources = [(join, "")]
            more = {} if t.priority is None else {"priority": str(t.priority)}
            e = self._element("transition", self.ways[n], x, y, more)
            self._in(e, sources)
            SubElement(e, "connectionPointOut")
            condition = SubElement(e, "condition")
            if t.name:
                SubElement(condition, "reference", {"name": t.name})
            else:
                _structured(SubElement(condition, "inline", {"name": ""}), t.condition)

    def _in_order(self, n: int, sources: list[tuple[int, str]]) -> list[tuple[int, str]]:
        """What a transition takes from, in the order in which it names its steps."""
        names = list(dict.fromkeys(s.name for s in self.q.steps if s.name in self.q.transitions[n].sources))
        of = dict(zip(names, sources))
        return [of[s] for s in dict.fromkeys(self.q.transitions[n].sources)]
