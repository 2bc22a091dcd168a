"""A sequential function chart in PLCopen XML: elements joined by references become steps and transitions of IEC text."""

from __future__ import annotations

import re
from xml.etree.ElementTree import Element

from spokeshave.formats.errors import FormatError
from spokeshave.formats.plcopen.tree import Lines, child, children, local, text_of

_SPLITS = ("selectionDivergence", "simultaneousDivergence")
_JOINS = ("selectionConvergence", "simultaneousConvergence")
NODES = ("step", "transition", "actionBlock", "jumpStep", "inVariable", *_SPLITS, *_JOINS)
_IGNORED = ("comment", "vendorElement", "connector", "continuation", "addData")
LONGEST_WAY = 1000
"""Divergences and convergences behind one another."""


def body_text(body: Element | None, place: str) -> str:
    """The structured text of a body. Raises `FormatError` for another language."""
    kind = language(body, place)
    if kind is None:
        return ""
    if local(kind) != "ST":
        raise fault(place, f"it is written in {local(kind)}", "write it in structured text")
    return text_of(kind)


def language(body: Element | None, place: str) -> Element | None:
    """What a body is written in. Raises `FormatError` for languages that are not read, and for two in one."""
    kinds = [c for c in children(body) if local(c) not in ("documentation", "addData")]
    other = next((local(c) for c in kinds if local(c) not in ("ST", "SFC")), "")
    if other:
        raise fault(place, f"it is written in {other}", "write it in structured text")
    if len(kinds) > 1:
        raise fault(
            place, f"its body is written in {' and '.join(map(local, kinds))}", "give each a program of its own"
        )
    return kinds[0] if kinds else None


def only_body(pou: Element, place: str) -> Element | None:
    """The body of a program. Raises `FormatError` for one on several worksheets."""
    bodies = [c for c in children(pou) if local(c) == "body"]
    if len(bodies) > 1:
        raise fault(place, f"its body stands on {len(bodies)} worksheets", "put them on one")
    return bodies[0] if bodies else None


def fault(place: str, message: str, advice: str = "") -> FormatError:
    """What is wrong at a place of the file."""
    return FormatError(message, item=place, advice=advice)


class Chart:
    """The elements of a chart by their numbers."""

    def __init__(self, pou: Element, sfc: Element, place: str) -> None:
        self.pou, self.place = pou, place
        self.nodes: dict[str, Element] = {}
        self.order: list[str] = []
        for e in children(sfc):
            name = local(e)
            if name == "macroStep":
                raise fault(
                    f"{place}, macro step {e.get('name', '')}",
                    "macro steps are not read",
                    "put its steps into the chart",
                )
            if name in _IGNORED:
                continue
            if name not in NODES:
                raise fault(f"{place}, {name} {e.get('localId', '')}", "this element is not read in a chart")
            ident = e.get("localId", "")
            if ident in self.nodes:
                raise fault(f"{place}, {name} {ident}", f"the localId {ident} stands twice")
            self.nodes[ident] = e
            self.order.append(ident)
        self.fed: dict[str, list[tuple[str, str]]] = {}
        """Who takes from an element, and from which of its outputs."""
        for ident in self.order:
            for source, output in self._inputs(ident):
                if source not in self.nodes:
                    raise fault(self._name(ident), f"it is joined to {source}, which is not there")
                self.fed.setdefault(source, []).append((ident, output))
        self.named = {t.get("name", ""): t for t in children(child(pou, "transitions"), "transition")}

    def _name(self, ident: str) -> str:
        e = self.nodes[ident]
        return f"{self.place}, {local(e)} {e.get('name') or e.get('targetName') or ident}"

    def _inputs(self, ident: str) -> list[tuple[str, str]]:
        e = self.nodes[ident]
        points = list(children(e, "connectionPointIn"))
        return [
            (c.get("refLocalId", ""), c.get("formalParameter", "")) for p in points for c in children(p, "connection")
        ]

    # -- where the ways go

    def sources(self, ident: str, depth: int = 0) -> list[str]:
        """Names of the steps before a transition, in the order in which they are joined."""
        out: list[str] = []
        if depth > LONGEST_WAY:
            raise fault(self._name(ident), "it is joined to itself")
        for source, _ in self._inputs(ident):
            e = self.nodes[source]
            if local(e) == "step":
                out.append(e.get("name", ""))
            elif local(e) in ("selectionDivergence", "simultaneousConvergence", "selectionConvergence"):
                out += self.sources(source, depth + 1)
            elif local(e) != "inVariable":
                raise fault(self._name(ident), f"a transition cannot follow {self._name(source)}")
        return list(dict.fromkeys(out))

    def targets(self, ident: str, depth: int = 0) -> list[str]:
        """Names of the steps behind a transition."""
        out: list[str] = []
        if depth > LONGEST_WAY:
            raise fault(self._name(ident), "it is joined to itself")
        for follower in self._outputs(ident):
            e = self.nodes[follower]
            if local(e) == "step":
                out.append(e.get("name", ""))
            elif local(e) == "jumpStep":
                out.append(e.get("targetName", ""))
            elif local(e) in ("selectionConvergence", "simultaneousDivergence"):
                out += self.targets(follower, depth + 1)
            else:
                raise fault(self._name(ident), f"a transition cannot lead to {self._name(follower)}")
        return list(dict.fromkeys(out))

    def _outputs(self, ident: str) -> list[str]:
        """Who takes from an element, in the order of its outputs, without action blocks."""
        outputs = [p.get("formalParameter", "") for p in children(self.nodes[ident], "connectionPointOut")]
        taken = [
            (outputs.index(o) if o in outputs else len(outputs), n, i)
            for n, (i, o) in enumerate(self.fed.get(ident, ()))
        ]
        return [i for _, _, i in sorted(taken) if local(self.nodes[i]) != "actionBlock"]

    # -- text

    def write(self, out: Lines) -> dict[str, str]:
        """The chart as IEC text; gives the comments of its steps."""
        comments: dict[str, str] = {}
        bodies: dict[str, tuple[str, str]] = {}
        steps = [i for i in self.order if local(self.nodes[i]) == "step"]
        for ident in steps:
            e, place = self.nodes[ident], self._name(ident)
            name = e.get("name", "")
            first = e.get("initialStep", "false") in ("true", "1")
            out.add(f"  {'INITIAL_STEP' if first else 'STEP'} {name}:", place)
            for follower, _ in self.fed.get(ident, ()):
                if local(self.nodes[follower]) == "actionBlock":
                    self._actions(out, self.nodes[follower], name, place, bodies)
            out.add("  END_STEP", place)
            if said := text_of(child(e, "documentation")):
                comments[name] = " ".join(said.split())
        for ident in self._ranked():
            self._transition(out, ident)
        for a in children(child(self.pou, "actions"), "action"):
            name = a.get("name", "")
            place = f"{self.place}, action {name}"
            bodies[name] = (body_text(child(a, "body"), place), place)
        for name, (text, place) in bodies.items():
            out.add(f"  ACTION {name}:\n{text}\n  END_ACTION", place)
        return comments

    def _actions(self, out: Lines, block: Element, step: str, place: str, bodies: dict[str, tuple[str, str]]) -> None:
        for n, a in enumerate(children(block, "action"), 1):
            reference, inline = child(a, "reference"), child(a, "inline")
            if reference is not None:
                name = reference.get("name", "")
            elif inline is not None:
                name = inline.get("name") or f"{step}_Does{n}"
                bodies[name] = (body_text(inline, f"{place}, action {n}"), f"{place}, action {n}")
            else:
                raise fault(f"{place}, action {n}", "it acts on nothing")
            qualifier, duration = a.get("qualifier", "N"), a.get("duration", "")
            time = (
                f", {duration if '#' in duration or not duration[:1].isdigit() else 'T#' + duration}"
                if duration
                else ""
            )
            out.add(f"    {name}({qualifier}{time});", f"{place}, action {name}")

    def _ranked(self) -> list[str]:
        """Transitions in the order of the file, those of a divergence in the order of its outputs."""
        out = [i for i in self.order if local(self.nodes[i]) == "transition"]
        for ident in self.order:
            if local(self.nodes[ident]) != "selectionDivergence":
                continue
            mine = list(dict.fromkeys(self._first_transition(i) for i in self._outputs(ident)))
            places = sorted(out.index(i) for i in mine if i in out)
            for at, i in zip(places, [i for i in mine if i in out]):
                out[at] = i
        return out

    def _first_transition(self, ident: str, depth: int = 0) -> str:
        """The transition that an output of a divergence leads to, through a convergence if there is one."""
        if local(self.nodes[ident]) == "transition" or depth > LONGEST_WAY:
            return ident
        return next((self._first_transition(i, depth + 1) for i in self._outputs(ident)), "")

    def _transition(self, out: Lines, ident: str) -> None:
        e, place = self.nodes[ident], self._name(ident)
        sources, targets = self.sources(ident), self.targets(ident)
        if not sources or not targets:
            raise fault(
                place, f"there is no step {'before' if not sources else 'behind'} this transition", "join it to one"
            )
        name, condition = self._condition(e, place)
        priority = f" (PRIORITY := {e.get('priority')})" if e.get("priority") else ""
        head = f"  TRANSITION{' ' + name if name else ''}{priority} FROM {_ends(sources)} TO {_ends(targets)} := "
        out.add(f"{head}{condition}; END_TRANSITION", place)

    def _condition(self, e: Element, place: str) -> tuple[str, str]:
        """The name of a transition, empty for none, and its condition."""
        c = child(e, "condition")
        reference, inline, drawn = child(c, "reference"), child(c, "inline"), child(c, "connectionPointIn")
        name = ""
        if reference is not None:
            name = reference.get("name", "")
            if name not in self.named:
                return "", name  # a variable
            text = body_text(child(self.named[name], "body"), f"{self.place}, transition {name}")
        elif inline is not None:
            name, text = inline.get("name", ""), body_text(inline, place)
        elif drawn is not None:
            text = self._drawn(drawn, place)
        else:
            raise fault(place, "it has no condition", "write TRUE for one that always holds")
        text = re.sub(rf"^\s*(?:{re.escape(name)}\s*)?:=", "", text) if name else re.sub(r"^\s*:=", "", text)
        text = text.strip().rstrip(";").strip()
        if not text:
            raise fault(place, "its condition is empty", "write TRUE for one that always holds")
        last = text.split("\n")[-1]
        return name, f"{text}\n" if "//" in last else text

    def _drawn(self, point: Element, place: str) -> str:
        """A condition that a variable is joined to; one that blocks work out is refused."""
        for c in children(point, "connection"):
            node = self.nodes.get(c.get("refLocalId", ""))
            if node is not None and local(node) == "inVariable":
                return text_of(child(node, "expression"))
        raise fault(place, "its condition is drawn", "write it in structured text")


def _ends(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"({', '.join(names)})"
