"""IEC 61131-3 text into a machine file: programs with charts become sequences, their variables signals."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from functools import cache
from importlib.resources import files
from typing import Any

from lark import Lark, Token, Tree, UnexpectedCharacters, UnexpectedEOF, UnexpectedToken

from spokeshave.formats.case_read import CaseReader, is_state_program
from spokeshave.formats.code.read import read_code
from spokeshave.formats.code.write import STYLES
from spokeshave.formats.errors import FormatError
from spokeshave.formats.pragma import merge_pragma, take_pragma
from spokeshave.formats.spoke import from_data
from spokeshave.language import syntax as sx
from spokeshave.language.blocks import BLOCKS
from spokeshave.language.literals import read_value, time_ms
from spokeshave.language.parse import explain_error, parse_statements
from spokeshave.model.project import (
    Action,
    Body,
    Instance,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Type,
    Value,
)

_CLASS = {"VAR_INPUT": SignalClass.INPUT, "VAR_OUTPUT": SignalClass.OUTPUT}


@cache
def _parser() -> Lark:
    own = (files("spokeshave.formats") / "iec_text.lark").read_text(encoding="utf-8")
    shared = (files("spokeshave.language") / "structured_text.lark").read_text(encoding="utf-8")
    return Lark(shared + own, parser="lalr", lexer="basic", start="start", propagate_positions=True)


@dataclass
class _Reader:
    text: str
    signals: dict[str, Signal] = field(default_factory=dict)
    instances: dict[str, Instance] = field(default_factory=dict)
    external: list[Token] = field(default_factory=list)
    sequences: list[Sequence] = field(default_factory=list)
    opening: str = ""
    closing: str = ""

    def fail(self, token: Any, message: str, advice: str = "") -> FormatError:
        at = token if isinstance(token, Token) else token.meta
        line, column = int(getattr(at, "line", 1) or 1), int(getattr(at, "column", 1) or 1)
        return FormatError(message, line=line, column=column, advice=advice)

    def slice(self, tree: Tree[Token] | Token) -> str:
        if isinstance(tree, Token):
            return str(tree)
        if tree.meta.empty:
            return ""
        return self.text[tree.meta.start_pos : tree.meta.end_pos].strip()

    def after(self, mark: str, start: int | None) -> int:
        """The offset behind the next `mark`: what is written from there is kept, comments too."""
        return self.text.index(mark, start or 0) + len(mark)

    def between(self, start: int, end: Any) -> str:
        return self.text[start : end.start_pos].strip()

    # -- variables

    def var_block(self, tree: Tree[Token]) -> None:
        kind, *rest = tree.children
        options = {str(t).upper() for t in rest if isinstance(t, Token)}
        for declaration in rest:
            if isinstance(declaration, Tree):
                self.declaration(str(kind).upper(), options, declaration)

    def declaration(self, kind: str, options: set[str], tree: Tree[Token]) -> None:
        names, _, address, type_name, initial = _declared(tree)
        if str(type_name).upper() in BLOCKS:
            for name in names:
                if name.lower() in self.instances or name.lower() in self.signals:
                    raise self.fail(name, f"{name} is declared twice", "declare it once")
                self.instances[name.lower()] = Instance(str(name), str(type_name).upper())
            return
        try:
            of_type = Type(str(type_name).upper())
        except ValueError:
            raise self.fail(type_name, f"type {type_name} is not supported",
                            f"use one of {', '.join(Type)}, or a block such as TON") from None  # fmt: skip
        value = None if initial is None else self.initial(initial, of_type)
        for name in names:
            if kind == "VAR_EXTERNAL":
                self.external.append(name)
                continue
            if name.lower() in self.signals or name.lower() in self.instances:
                raise self.fail(
                    name, f"{name} is declared twice", "declare it once, in VAR_GLOBAL if programs share it"
                )
            self.signals[name.lower()] = Signal(
                str(name), self.class_of(kind, options, str(address or "")), of_type, str(address or ""),
                initial=value, retain="RETAIN" in options,
            )  # fmt: skip

    def class_of(self, kind: str, options: set[str], address: str) -> SignalClass:
        if "CONSTANT" in options:
            return SignalClass.SETTING
        if kind == "VAR_GLOBAL" and address[:2].upper() == "%I":
            return SignalClass.INPUT
        if kind == "VAR_GLOBAL" and address[:2].upper() == "%Q":
            return SignalClass.OUTPUT
        return _CLASS.get(kind, SignalClass.INTERNAL)

    def initial(self, tree: Tree[Token], of_type: Type) -> Value:
        text = self.slice(tree)
        head, mark, rest = text.partition("#")
        if mark and head.upper() == of_type:
            text = rest
        try:
            if of_type is Type.TIME:
                return time_ms(text)
            base, mark, digits = text.replace("_", "").partition("#")
            return int(digits, int(base)) if mark else read_value(text, of_type)
        except ValueError as error:
            raise self.fail(tree, str(error)) from None

    # -- programs

    def program(self, tree: Tree[Token]) -> None:
        _, name, *rest = tree.children
        assert isinstance(name, Token)
        elements = [c for c in rest if isinstance(c, Tree) and c.data in ("step", "transition", "action")]
        for block in rest:
            if isinstance(block, Tree) and block.data == "var_block":
                self.var_block(block)
        statements = next(c for c in rest if isinstance(c, Tree) and c.data == "statements")
        heads = [c for c in rest if isinstance(c, Tree) and c.data != "statements" and not c.meta.empty]
        start = max([name.end_pos or 0, *(h.meta.end_pos for h in heads)])
        text = self.between(start, rest[-1]) if not elements else self.slice(statements)
        if not elements:
            if self.state_program(name, start, text):
                return
            if self.sequences:
                self.closing = f"{self.closing}\n{text}".strip()
            else:
                self.opening = f"{self.opening}\n{text}".strip()
            return
        if text:
            raise self.fail(
                statements, "statements beside the chart", "put them into an ACTION, or a PROGRAM of their own"
            )
        if any(q.name.lower() == name.lower() for q in self.sequences):
            raise self.fail(name, f"there are two programs {name}")
        self.sequences.append(self.sequence(name, elements))

    def state_program(self, name: Token, start: int, text: str) -> bool:
        """Reads a program that is one CASE on a state as a sequence; FALSE for any other text."""
        statements = parse_statements(text)
        if not is_state_program(statements, self.signals):
            return False
        case = statements[0]
        assert isinstance(case, sx.Case)
        offset = self.text.index(text, start)

        def fail(span: sx.Span, message: str, advice: str) -> FormatError:
            at = offset + span.start
            line, column = self.text.count("\n", 0, at) + 1, at - self.text.rfind("\n", 0, at)
            return FormatError(message, line=line, column=column, advice=advice)

        state = self.signals.pop(str(case.selector).lower())
        sequence = CaseReader(str(name), case, state, self.signals, fail).sequence()
        for step in sequence.steps:
            self.signals.pop(step.name.lower(), None)  # a constant that named a state is now the step
        self.sequences.append(sequence)
        return True

    def sequence(self, name: Token, elements: list[Tree[Token]]) -> Sequence:
        steps: dict[str, Step] = {}
        transitions: list[Transition] = []
        bodies: list[Body] = []
        initial: Token | None = None
        spelt = {str(e.children[1]).lower(): str(e.children[1]) for e in elements if e.data == "step"}
        for e in elements:
            if e.data == "step":
                kind, own = e.children[0], e.children[1]
                assert isinstance(own, Token)
                if own.lower() in steps:
                    raise self.fail(own, f"there are two steps {own} in {name}")
                if str(kind).upper() == "INITIAL_STEP":
                    if initial is not None:
                        raise self.fail(own, f"{name} has two initial steps", f"{initial} is one already")
                    initial = own
                blocks = tuple(self.block(b) for b in e.children[2:] if isinstance(b, Tree))
                steps[own.lower()] = Step(str(own), 0, blocks)
            elif e.data == "transition":
                transitions.append(self.transition(e, spelt, str(name)))
            else:
                own = e.children[1]
                assert isinstance(own, Token)
                if any(b.name.lower() == own.lower() for b in bodies):
                    raise self.fail(own, f"there are two actions {own} in {name}")
                bodies.append(Body(str(own), self.between(self.after(":", own.end_pos), e.children[-1])))
        if initial is None:
            raise self.fail(name, f"{name} has no initial step", "write INITIAL_STEP for the step it starts in")
        numbers = step_numbers([s.name for s in steps.values()])
        listed = tuple(replace(s, number=n) for s, n in zip(steps.values(), numbers))
        return Sequence(str(name), str(initial), listed, tuple(transitions), tuple(bodies))

    def block(self, tree: Tree[Token]) -> Action:
        target, qualifier, duration = tree.children
        assert isinstance(target, Token)
        try:
            kind = Qualifier(str(qualifier or "N").upper())
        except ValueError:
            raise self.fail(qualifier, f"{qualifier} is not an action qualifier",
                            f"use one of {', '.join(Qualifier)}") from None  # fmt: skip
        time = "" if duration is None else self.slice(duration)
        if kind.timed and not time:
            raise self.fail(target, f"{kind} needs a time", f"for example {target}({kind}, T#2s)")
        if time and not kind.timed:
            raise self.fail(target, f"{kind} takes no time")
        return Action(kind, str(target), time)

    def transition(self, tree: Tree[Token], spelt: dict[str, str], program: str) -> Transition:
        _, name, priority, _, sources, targets, _, end_word = tree.children
        ends: list[tuple[str, ...]] = []
        for end in (sources, targets):
            assert isinstance(end, Tree)
            for token in end.children:
                if str(token).lower() not in spelt:
                    raise self.fail(token, f"there is no step {token} in {program}")
            ends.append(tuple(spelt[str(t).lower()] for t in end.children))
        rank = None if priority is None else int(str(priority.children[-1]))  # type: ignore[union-attr]
        assert isinstance(targets, Tree) and isinstance(end_word, Token)
        semicolon = self.text.rindex(";", 0, end_word.start_pos)
        text = self.text[self.after(":=", targets.meta.end_pos) : semicolon].strip()
        return Transition(ends[0], ends[1], text, rank, str(name or ""))


def _declared(tree: Tree[Token]) -> tuple[list[Token], Any, Any, Token, Any]:
    names, at, address, type_name, initial = tree.children
    assert isinstance(names, Tree) and isinstance(type_name, Token)
    return [t for t in names.children if isinstance(t, Token)], at, address, type_name, initial


def step_numbers(names: list[str]) -> list[int]:
    """The numbers the names end in when all do and they differ and fit in DINT; else 10, 20, 30 ...

    >>> step_numbers(["S10", "S5"]), step_numbers(["Idle", "S5"])
    ([10, 5], [10, 20])
    """
    found = [re.search(r"[0-9]+$", n) for n in names]
    numbers = [int(m[0]) for m in found if m and len(m[0]) < 20]
    if len(numbers) == len(names) and len(set(numbers)) == len(numbers) and max(numbers, default=0) < 2**31:
        return numbers
    return [10 * (i + 1) for i in range(len(names))]


def _read_code(text: str, tree: Tree[Token], pragma: dict[str, Any]) -> Project:
    """Generated code: the machine file of its pragma, with the texts as they stand in the code."""
    style = pragma.get("code")
    if style not in STYLES:
        raise FormatError(f"the pragma speaks of code of the style {style}", advice=f"there are {' and '.join(STYLES)}")
    project = from_data({k: v for k, v in pragma.items() if k not in ("version", "code")})
    programs = [p for p in tree.children if isinstance(p, Tree) and p.data == "program"]
    if len(programs) != 1:
        raise FormatError(f"generated code is one PROGRAM, here are {len(programs)}")
    last = programs[0].children[-1]
    heads = [c for c in programs[0].children if isinstance(c, Tree) and c.data == "var_block"]
    start = max((int(h.meta.end_pos) for h in heads), default=0)
    assert isinstance(last, Token)
    return read_code(text, start, int(last.start_pos or 0), project, str(style))[0]


def parse_iec(text: str) -> Project:
    """The machine file of an IEC text, its pragma taken in. Raises `FormatError` with line and column."""
    plain, pragma = take_pragma(text)
    reader = _Reader(plain)
    try:
        tree = _parser().parse(plain)
    except (UnexpectedToken, UnexpectedCharacters, UnexpectedEOF) as error:
        problem = explain_error(error, plain, "start_program")
        raise FormatError(problem.message, line=problem.line, column=problem.column, advice=problem.advice) from None
    except RecursionError:
        raise FormatError("an expression is too long") from None
    if pragma is not None and "code" in pragma:
        return _read_code(plain, tree, pragma)
    for part in tree.children:
        if isinstance(part, Tree):
            (reader.var_block if part.data == "var_block" else reader.program)(part)
    for name in reader.external:
        if name.lower() not in reader.signals:
            raise reader.fail(name, f"{name} is VAR_EXTERNAL, and declared nowhere", "declare it in VAR_GLOBAL")
    if not reader.sequences:
        raise FormatError("there is no PROGRAM with a chart in this text", advice="a chart has an INITIAL_STEP")
    project = Project(
        reader.sequences[0].name,
        signals=tuple(reader.signals.values()),
        instances=tuple(reader.instances.values()),
        opening=reader.opening,
        closing=reader.closing,
        sequences=tuple(reader.sequences),
    )
    return project if pragma is None else merge_pragma(project, pragma)
