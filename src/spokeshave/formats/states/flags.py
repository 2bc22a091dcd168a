"""Steps kept as flags, one of which is TRUE: `IF S1 AND Up THEN S2 := TRUE; S1 := FALSE; END_IF;` as states of one variable."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Set
from dataclasses import dataclass, replace

from spokeshave.formats.states.find import Block
from spokeshave.formats.states.fold import stripped, value_of
from spokeshave.formats.states.spoken import mapped
from spokeshave.language import syntax as sx
from spokeshave.language.terms import terms
from spokeshave.model.edits import free_name
from spokeshave.model.project import Signal, SignalClass, Type


@dataclass(frozen=True, slots=True)
class Flagged:
    """A text whose flags are states of `state` now: each flag is a constant with its number, as a label is. `last` tells the state
    from the flags, to stand behind the text as it is.
    """

    statements: Block
    state: Signal
    labels: dict[str, Signal]
    last: str


def flags_as_states(statements: Block, signals: Mapping[str, Signal]) -> Flagged | None:
    """The text with its step flags as one state; None where there are none, or where they are used in another way than one being
    exchanged for another.
    """
    flags = _flags(statements, signals)
    first = [low for low in flags if signals[low].start is True]
    if not first:
        first, statements = _begun(statements, {*flags})
    if len(flags) < 2 or len(first) != 1:
        return None
    labels = {low: Signal(signals[low].name, SignalClass.SETTING, Type.INT, initial=n) for n, low in enumerate(flags)}
    name = free_name("State", {*signals})
    try:
        asked = tuple(mapped(s, lambda tree: _asked(tree, name, labels)) for s in statements)
        said = tuple(_printed(s) for s in _exchanged(asked, name, labels))
    except ValueError:
        return None
    tests = "ELSIF ".join(f"{s.name} THEN {name} := {s.initial}; " for s in labels.values())
    state = Signal(name, SignalClass.INTERNAL, Type.INT, initial=labels[first[0]].initial)
    return Flagged(said, state, labels, f"IF {tests}END_IF;")


def _printed(s: sx.Statement) -> sx.Statement:
    """A statement that has no text of its own any more."""
    return replace(s, span=s.span._replace(end=s.span.start))


def _flags(statements: Block, signals: Mapping[str, Signal]) -> list[str]:
    """Variables that are asked for and exchanged for another one, in the order in which they are declared."""
    found: set[str] = set()
    for s in sx.every_statement(statements):
        for condition, block in s.branches if isinstance(s, sx.If) else ():
            asked = {str(t).lower() for t in terms(condition) if isinstance(t, sx.Name)}
            on, off = _set(block, signals.keys(), True), _set(block, signals.keys(), False)
            if len(on) == 1 and off & asked:
                found |= on | (off & asked)
    kept = [low for low, s in signals.items() if low in found and s.type is Type.BOOL and s.cls is SignalClass.INTERNAL]
    return kept if len(kept) == len(found) else []


def _begun(statements: Block, flags: set[str]) -> tuple[list[str], Block]:
    """The flag that the first scan sets, `IF NOT Ready THEN S1 := TRUE; Ready := TRUE; END_IF`, and the text without that."""
    for i, s in enumerate(statements):
        if isinstance(s, sx.If) and len(s.branches) == 1 and not s.otherwise:
            condition, block = s.branches[0]
            on, off = _set(block, flags, True), _set(block, flags, False)
            once = str(condition.operand).lower() if isinstance(condition, sx.Unary) and condition.op == "NOT" else ""
            if len(on) == 1 and not off and _set(block, {once}, True):
                left = stripped(s, on)
                return [*on], (*statements[:i], *((left,) if left is not None else ()), *statements[i + 1 :])
    return [], statements


def _set(block: Block, names: Set[str], value: bool) -> set[str]:
    """The variables that a block itself sets TRUE, or FALSE."""
    mine = [s for s in block if isinstance(s, sx.Assign) and value_of(s.value) is value]
    return {low for s in mine if (low := str(s.target).lower()) in names}


def _exchanged(block: Block, state: str, flags: Mapping[str, Signal]) -> Iterator[sx.Statement]:
    """Statements that set the state in the place of its flags. Raises `ValueError` where they do not exchange one for another."""
    mine = [s for s in block if isinstance(s, sx.Assign) and str(s.target).lower() in flags]
    if mine:
        on, off = _set(block, flags.keys(), True), _set(block, flags.keys(), False)
        if len(on) != 1 or not off or len(mine) != len(on) + len(off):
            raise ValueError
    for s in block:
        if s in mine:
            if value_of(s.value) is True:
                to = flags[str(s.target).lower()].name
                yield sx.Assign(sx.Name((state,), s.span), sx.Name((to,), s.span), s.span)
        elif isinstance(s, sx.If):
            branches = tuple((c, tuple(_exchanged(b, state, flags))) for c, b in s.branches)
            yield replace(s, branches=branches, otherwise=tuple(_exchanged(s.otherwise, state, flags)))
        elif any(str(n).lower() in flags for x in sx.every_statement((s,)) for n in sx.children(x)[2]):
            raise ValueError
        else:
            yield s


def _asked(tree: sx.Expression, state: str, flags: Mapping[str, Signal]) -> sx.Expression:
    if isinstance(tree, sx.Name):
        return sx.Binary("=", sx.Name((state,), tree.span), tree, tree.span) if str(tree).lower() in flags else tree
    return sx.with_parts(tree, lambda part: _asked(part, state, flags))
