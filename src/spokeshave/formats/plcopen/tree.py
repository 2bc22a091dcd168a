"""XML from anywhere into a tree without name spaces; what would only do harm is refused before it is looked at."""

from __future__ import annotations

from collections.abc import Iterator
from copy import deepcopy
from dataclasses import dataclass, field
from xml.etree.ElementTree import Element, ParseError, tostring

from spokeshave.formats.errors import FormatError
from spokeshave.model.diagnostics import quoted

KNOWN = (
    "http://www.plcopen.org/xml/tc6_0201",
    "http://www.plcopen.org/xml/tc6_0200",
    "http://www.plcopen.org/xml/tc6.xsd",
)
DEEPEST = 200
"""Elements in one another; no chart or text nests as deep."""


def parsed(data: bytes) -> Element:
    """The tree of an XML file, `project` at its root. Raises `FormatError` with the line, also for entities and a DOCTYPE."""
    from defusedxml.common import DefusedXmlException  # type: ignore[import-untyped]
    from defusedxml.ElementTree import fromstring  # type: ignore[import-untyped]

    if _depth(data) > DEEPEST:
        raise FormatError(f"the elements nest deeper than {DEEPEST}", advice="no file of this kind does")
    try:
        root: Element = fromstring(data, forbid_dtd=True)
    except ParseError as error:
        line, column = error.position
        raise FormatError(
            f"this is no whole XML: {quoted(str(error).split(':')[0])}", line=line, column=column + 1
        ) from None
    except (DefusedXmlException, ValueError, LookupError) as error:
        what = "a DOCTYPE or an entity" if isinstance(error, DefusedXmlException) else quoted(error)
        raise FormatError(f"the XML has {what}", advice="export it without") from None
    space, _, name = root.tag.rpartition("}")
    if name != "project" or space.lstrip("{") not in (*KNOWN, ""):
        raise FormatError(f"this is XML, but no PLCopen project: its root is {quoted(name)} of {quoted(space.lstrip('{') or 'no name space')}",
                          advice="TC6 XML of version 2.0 or 2.01 is read")  # fmt: skip
    return root


def _depth(data: bytes) -> int:
    """How deep elements nest, at most, counted without building anything."""
    from xml.parsers.expat import ExpatError, ParserCreate

    deepest = depth = 0

    def start(name: str, attributes: object) -> None:
        nonlocal deepest, depth
        depth += 1
        deepest = max(deepest, depth)
        if deepest > DEEPEST:
            raise OverflowError

    def end(name: str) -> None:
        nonlocal depth
        depth -= 1

    def refuse(*_: object) -> None:
        raise ExpatError("entities")

    parser = ParserCreate()
    parser.StartElementHandler, parser.EndElementHandler, parser.EntityDeclHandler = start, end, refuse
    try:
        parser.Parse(data, True)
    except OverflowError:
        return DEEPEST + 1
    except (ExpatError, ValueError, LookupError):
        pass  # told by what reads it
    return deepest


def local(e: Element) -> str:
    """The name of an element without its name space."""
    return str(e.tag).rpartition("}")[2]


def children(e: Element | None, *names: str) -> Iterator[Element]:
    """The elements right below, those of some names if any are given."""
    for c in e if e is not None else ():
        if isinstance(c.tag, str) and (not names or local(c) in names):
            yield c


def child(e: Element | None, *path: str) -> Element | None:
    """The first element down a path of names."""
    for name in path:
        e = next(children(e, name), None)
    return e


def text_of(e: Element | None) -> str:
    """All text in an element, paragraphs on lines of their own."""
    if e is None:
        return ""
    parts = ["".join(p.itertext()) for p in e.iter() if local(p) == "p"]
    return ("\n".join(parts) if parts else "".join(e.itertext())).strip("\n").rstrip()


@dataclass
class Lines:
    """A text in the making that knows for each of its lines where it comes from."""

    lines: list[str] = field(default_factory=list)
    places: list[str] = field(default_factory=list)

    def add(self, text: str, place: str) -> None:
        for line in text.split("\n"):
            self.lines.append(line)
            self.places.append(place)

    def place(self, line: int) -> str:
        """Where line `line` (from 1) comes from."""
        return self.places[min(max(1, line), len(self.places)) - 1] if self.places else ""

    @property
    def text(self) -> str:
        return "\n".join(self.lines) + "\n"


def fragment(e: Element) -> str:
    """Additional data as text, to be written back as they are, but for blanks between elements."""
    e = deepcopy(e)
    e.tag, e.tail = f"{{{KNOWN[0]}}}{local(e)}", None
    for part in e.iter():
        if len(part) and not (part.text or "").strip():
            part.text = None
        for below in part:
            if not (below.tail or "").strip():
                below.tail = None
    return str(tostring(e, encoding="unicode"))
