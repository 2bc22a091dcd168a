"""The declarations of an IEC text: variables into signals, instances of blocks."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from functools import cached_property

from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_places import Origins
from spokeshave.formats.states.blocks import Outline
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.literals import read_value, time_ms
from spokeshave.language.parser import Parser
from spokeshave.language.tokens import ADDRESS, END, NAME, PROGRAM_WORDS, Tokens
from spokeshave.model.project import (
    Instance,
    Signal,
    SignalClass,
    Type,
    Value,
)

VARIABLES = ("VAR", "VAR_INPUT", "VAR_OUTPUT", "VAR_GLOBAL", "VAR_EXTERNAL", "VAR_TEMP", "VAR_IN_OUT")
_COMMENT = re.compile(r"\(\*(.*?)\*\)|//(.*)")
BLANKS = re.compile(r"\s*")
_CLASS = {"VAR_INPUT": SignalClass.INPUT, "VAR_OUTPUT": SignalClass.OUTPUT}
_SAID = {"settings": "CONSTANT", "(* inputs *)": "VAR_INPUT", "(* outputs *)": "VAR_OUTPUT"}
"""What a comment behind the word of a block says of its variables, where the word alone cannot."""
_FOREIGN = {
    "SINT": Type.INT,
    "USINT": Type.INT,
    "BYTE": Type.INT,
    "UINT": Type.DINT,
    "WORD": Type.DINT,
    "UDINT": Type.DINT,
    "DWORD": Type.DINT,
    "LREAL": Type.REAL,
}
"""Types that have no other meaning here than one of ours, a wider one where there is one."""
_NARROWER = {"UDINT": ", which holds up to 2,147,483,647", "DWORD": ", which holds up to 2,147,483,647"}
"""What is said of those that are not."""


_ENUMERATION = re.compile(
    r"\bTYPE\s+(?P<name>\w+)\s*:\s*\((?P<values>(?:\(\*[\s\S]*?\*\)|[^()])*)\)\s*(?:S?INT|DINT|U?INT)?\s*(?:(?P<default>:=)\s*[\w.#]+\s*)?;\s*END_TYPE\b\s*;?",
    re.IGNORECASE,
)
Enumerations = dict[str, dict[str, int]]
"""The values of the enumerations of a text, by their names, in the order in which they stand."""


_IN_PLACE = re.compile(r"(?P<head>\w\s*:\s*)(?P<list>\((?P<values>[^()]*,[^()]*)\))(?=\s*(?::=|;))")
"""The values of a variable that stand in its declaration: `State : (IDLE, RUN) := IDLE`."""


def _values(text: str) -> dict[str, int]:
    """Names and numbers of a list of values; nothing for a text that is none."""
    values, n = {}, 0
    for part in re.sub(r"\(\*.*?\*\)|//[^\n]*", "", text, flags=re.DOTALL).split(","):
        name, _, number = (x.strip() for x in part.partition(":="))
        if not re.fullmatch(r"[A-Za-z_]\w*", name) or (number and not re.fullmatch(r"-?[0-9]{1,9}", number)):
            return {}
        n = int(number) if number else n
        values[name] = n
        n += 1
    return values


def without_enumerations(text: str) -> tuple[str, Enumerations]:
    """A text in which enumerations are blanks of the same length, and so is the name of one before its value; with their values,
    which are constants then.

    >>> without_enumerations("TYPE Way : (UP, DOWN := 5, OUT); END_TYPE x := Way.DOWN;")[1]
    {'Way': {'UP': 0, 'DOWN': 5, 'OUT': 6}}
    """
    found: Enumerations = {}

    def blank(m: re.Match[str]) -> str:
        values = _values(m["values"])
        if not values:
            return m[0]
        found[m["name"]] = values
        return re.sub(r"[^\n]", " ", m[0])

    def named(m: re.Match[str]) -> str:
        values = _values(m["values"])
        if not values:
            return m[0]
        name = f"Values{len(found) + 1}"
        found[name] = values
        return m["head"] + name + re.sub(r"[^\n]", " ", m["list"])[len(name) :]

    plain = _IN_PLACE.sub(named, _ENUMERATION.sub(blank, text))
    for name in found:
        plain = re.sub(rf"\b{name}[.#](?=[A-Za-z_])", lambda m: " " * len(m[0]), plain, flags=re.IGNORECASE)
    return plain, found


@dataclass
class VariableReader:
    """Goes through the words of a text; what it has found stands in its fields."""

    text: str
    tokens: Tokens
    signals: dict[str, Signal] = field(default_factory=dict)
    instances: dict[str, Instance] = field(default_factory=dict)
    external: list[int] = field(default_factory=list)
    origins: Origins = field(default_factory=Origins)
    enumerations: Enumerations = field(default_factory=dict)
    told: list[tuple[int, str]] = field(default_factory=list)
    """What was taken otherwise than it stands, with its line."""

    def __post_init__(self) -> None:
        self.parser = Parser(self.tokens)
        for values in self.enumerations.values():
            for name, value in values.items():
                self.signals[name.lower()] = Signal(name, SignalClass.SETTING, Type.INT, initial=value)

    # -- words

    def fail(self, i: int, message: str, advice: str = "") -> FormatError:
        """The error at word `i`."""
        line, column = self.tokens.position(self.tokens.starts[i])
        return FormatError(message, line=line, column=column, advice=advice)

    @property
    def next(self) -> str:
        return self.parser.kinds[self.parser.at]

    def origin(self, kind: str, sequence: str, item: str, i: int, index: int = -1) -> None:
        """An item of the model begins at word `i`."""
        self.origins.add(kind, sequence, item, index, self.tokens.position(self.tokens.starts[i]))

    def between(self, first: int, last: int) -> str:
        """The text behind word `first` up to word `last`, with its comments."""
        return self.text[self.tokens.ends[first] : self.tokens.starts[last]].strip()

    def text_origin(self, kind: str, sequence: str, item: str, first: int, index: int = -1, lines: int = 0) -> None:
        """A text of the model begins behind word `first`, `lines` lines down in the whole of it."""
        at = BLANKS.match(self.text, self.tokens.ends[first]).end()  # type: ignore[union-attr]
        self.origins.add(kind, sequence, item, index, self.tokens.position(at), lines)

    # -- variables

    def var_block(self) -> None:
        kind = self.next
        self.parser.at += 1
        said = self.between(self.parser.at - 1, self.parser.at)
        options = {word for comment, word in _SAID.items() if comment in said}
        while self.next in ("CONSTANT", "RETAIN"):
            options.add(self.next)
            self.parser.at += 1
        while not self.parser.skip("END_VAR"):
            self.declaration(kind, options)

    def declaration(self, kind: str, options: set[str]) -> None:
        p = self.parser
        names: list[int] = []
        while not names or p.skip(","):
            if self.next in PROGRAM_WORDS and self.tokens.word(p.at + 1) in (":", ",", "AT"):
                raise self.fail(p.at, f"{self.tokens.word(p.at)} is a word of the language",
                                "choose another name for this variable")  # fmt: skip
            names.append(p.name_at("a name or END_VAR" if not names else "a name"))
        address = self.tokens.word(p.take(ADDRESS, "an address such as %IX0.0")) if p.skip("AT") else ""
        p.take(":")
        if self.has_many():
            self.table(kind, options, names)
            return
        type_at = p.name_at("a type")
        type_name = self.tokens.word(type_at)
        if p.skip("("):  # a subrange says which values there are; nothing asks for it
            while not p.skip(")"):
                p.at += 1
                if self.next in (END, ";"):
                    p.take(")")
        first = p.at
        if p.skip(":="):
            p.expression()
        last = p.take(";", "a semicolon")
        self.declared(kind, options, names, address, (type_at, type_name), first if last > first else -1, last)

    def has_many(self) -> bool:
        """Whether the type that comes next has many values."""
        return False

    def table(self, kind: str, options: set[str], names: list[int]) -> None:
        """A declaration of many values."""
        raise NotImplementedError

    def kind_of_block(self, i: int) -> str:
        """The block of the file's own that word `i` is the kind of; empty for none."""
        return ""

    def declared(
        self, kind: str, options: set[str], names: list[int], address: str, of: tuple[int, str], first: int, last: int
    ) -> None:  # fmt: skip
        """Signals or instances of a declaration, whose initial value stands between two words."""
        if kind == "VAR_IN_OUT":
            raise self.fail(names[0], "VAR_IN_OUT is not supported",
                            "take the variable as an input and give it back as an output")  # fmt: skip
        type_at, type_name = of
        spelt = [(i, self.tokens.word(i)) for i in names]
        for i, name in spelt:
            if kind != "VAR_EXTERNAL" and (name.lower() in self.signals or name.lower() in self.instances):
                raise self.fail(i, f"{name} is declared twice", "declare it once, in VAR_GLOBAL if programs share it")
        block = type_name.upper() if type_name.upper() in BLOCKS else self.kind_of_block(type_at)
        if block:
            for i, name in spelt:
                self.origin("instance", "", name, i)
                self.instances[name.lower()] = Instance(name, block)
            return
        try:
            values = self.enumeration(type_name)
            of_type = Type.INT if values else self.foreign.get(type_name.upper()) or Type(type_name.upper())
        except ValueError:
            raise self.fail(type_at, f"type {type_name} is not supported",
                            f"use one of {', '.join(Type)}, or a block such as TON") from None  # fmt: skip
        if type_name.upper() in self.foreign:
            line = self.tokens.position(self.tokens.starts[type_at])[0]
            wider = _NARROWER.get(type_name.upper(), "")
            self.told.append((line, f"{type_name.upper()} is taken as {of_type}{wider}"))
        value: Value | None
        if values:
            value = self.first_value(values, first, last)
        else:
            value = None if first < 0 else self.initial(first, last, of_type)
        for i, name in spelt:
            if kind == "VAR_EXTERNAL":
                self.external.append(i)
                continue
            self.origin("signal", "", name, i)
            # An address that is given elsewhere (`%I*`) says whether the signal comes or goes, and no more.
            there = "" if address.endswith("*") else address
            self.signals[name.lower()] = Signal(
                name, self.class_of(kind, options, address), of_type, there, initial=value, retain="RETAIN" in options,
                comment=self.comment_behind(last),
            )  # fmt: skip

    def comment_behind(self, i: int) -> str:
        """The comment that stands behind word `i` on its line."""
        line = self.text[self.tokens.ends[i] : self.tokens.starts[i + 1]].split("\n")[0]
        found = _COMMENT.fullmatch(line.strip())
        return (found[1] or found[2] or "").strip() if found else ""

    def class_of(self, kind: str, options: set[str], address: str) -> SignalClass:
        if "CONSTANT" in options:
            return SignalClass.SETTING
        if kind == "VAR_GLOBAL" and options & set(_CLASS):
            return _CLASS["VAR_INPUT" if "VAR_INPUT" in options else "VAR_OUTPUT"]
        if kind in ("VAR", "VAR_GLOBAL") and address[:2].upper() == "%I":
            return SignalClass.INPUT
        if kind in ("VAR", "VAR_GLOBAL") and address[:2].upper() == "%Q":
            return SignalClass.OUTPUT
        return _CLASS.get(kind, SignalClass.INTERNAL)

    def initial(self, first: int, last: int, of_type: Type) -> Value:
        """The value between two words, or that of the constant that they name. Raises `FormatError` for another one."""
        text = self.between(first, last)
        if last == first + 2 and self.tokens.kinds[first + 1] == NAME:
            text = self._constants.get(text.lower(), text)
        head, mark, rest = text.partition("#")
        if mark and head.upper() == of_type:
            text = rest
        try:
            if of_type is Type.TIME:
                return time_ms(text)
            base, mark, digits = text.replace("_", "").partition("#")
            return int(digits, int(base)) if mark and len(digits) < 100 else read_value(text, of_type)
        except ValueError as error:
            raise self.fail(first + 1, str(error)) from None

    @cached_property
    def _constants(self) -> dict[str, str]:
        """The constants of the text with their values as they are written, by their names in lower case."""
        outline = Outline(self.tokens)
        every = [*outline.declared, *(d for b in outline.blocks for d in b.declared)]
        return {self.tokens.word(i).lower(): d.initial for d in every if d.constant for i in d.names}

    def first_value(self, values: dict[str, int], first: int, last: int) -> int:
        """The number that a variable of an enumeration has at first; `first` is -1 where the text does not say it."""
        named = {n.lower(): v for n, v in values.items()}
        said = named.get(self.between(first, last).lower()) if first >= 0 else None
        return next(iter(values.values())) if said is None else said

    def enumeration(self, type_name: str) -> dict[str, int] | None:
        """The values of an enumeration by its name; None for another type."""
        return next((v for name, v in self.enumerations.items() if name.lower() == type_name.lower()), None)

    @cached_property
    def foreign(self) -> dict[str, Type]:
        """Types of state programs that are taken as wider ones; a chart was written for this program and has none."""
        return {} if "INITIAL_STEP" in self.tokens.kinds else _FOREIGN

    def guess_classes(self, read: set[str], written: set[str]) -> None:
        """Where a text declares no inputs, what it reads and nothing sets is one; where it declares no outputs, what it sets and
        nothing reads. What has a value at first and is only read is a setting. `read` and `written` are names in lower case.
        """
        had = {s.cls for s in self.signals.values()}
        for low, s in list(self.signals.items()):
            if s.cls is not SignalClass.INTERNAL:
                continue
            cls = None
            if s.initial is not None:
                cls = SignalClass.SETTING if low in read and low not in written else None
            elif SignalClass.INPUT not in had and low in read and low not in written:
                cls = SignalClass.INPUT
            elif SignalClass.OUTPUT not in had and low in written and low not in read and s.type is Type.BOOL:
                cls = SignalClass.OUTPUT
            if cls is not None:
                self.signals[low] = replace(s, cls=cls)
                line = self.origins.found[("signal", "", low, -1)][0][1][0]
                why = "since nothing reads it" if cls is SignalClass.OUTPUT else "since nothing sets it"
                a = "a" if cls is SignalClass.SETTING else "an"
                self.told.append((line, f"{s.name} is taken as {a} {cls}, {why}"))
