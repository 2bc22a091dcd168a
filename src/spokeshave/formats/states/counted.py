"""Variables that grow by one step in every scan and begin anew where the state changes: they are the time of each step that asks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from spokeshave.formats.states.find import Block, Machine, Side
from spokeshave.formats.states.flow import Flow
from spokeshave.formats.states.fold import NOWHERE, TRUE, folded, names_in, same, value_of, written_by
from spokeshave.language import syntax as sx
from spokeshave.language.printer import expression_text
from spokeshave.model.project import Signal, SignalClass, Type

COMPARED = frozenset((">", ">=", "<", "<="))


def counted(flow: Flow, period_ms: int, signals: Mapping[str, Signal]) -> Iterator[sx.Assign]:
    """Puts what the comparisons of such variables say into `flow.special`; gives the statements in which they grow."""
    for i, s in enumerate(flow.around):
        if flow.m.side(i) is Side.ABOVE and isinstance(s, sx.Assign) and isinstance(s.target, sx.Name):
            name, step = str(s.target).lower(), _step(s, period_ms, signals)
            others = [x for x in flow.around if x is not s]
            if step and (asked := _asked(flow, name, others)) and _begins_where_asked(flow, name, set(asked), others):
                for n in flow.m.branches:
                    known = flow.special.setdefault(n, {})
                    known[f"{name} ?"] = TRUE
                    for text, x in asked.get(n, {}).items():
                        known[text] = _as_time(flow.m, n, x, step, period_ms)
                yield s


def _step(s: sx.Assign, period_ms: int, signals: Mapping[str, Signal]) -> int:
    """How much a variable grows by, in milliseconds or as a number; 0 where it does not, or by another time than that of a scan."""
    if not isinstance(s.value, sx.Binary) or s.value.op != "+" or not same(s.value.left, s.target):
        return 0
    more = s.value.right
    if isinstance(more, sx.Name):
        setting = signals.get(str(more).lower())
        if setting is None or setting.cls is not SignalClass.SETTING or setting.type is not Type.TIME:
            return 0
        return period_ms if setting.start == period_ms else 0
    if not isinstance(more, sx.Literal) or type(more.value) is not int:
        return 0
    if more.type is Type.TIME:
        return period_ms if more.value == period_ms else 0
    return max(0, more.value) if more.type in (None, Type.INT, Type.DINT) else 0


def _asked(flow: Flow, name: str, others: list[sx.Statement]) -> dict[int, dict[str, sx.Binary]]:
    """The comparisons of a variable with numbers, by the state that asks; none where it is used otherwise."""
    found: dict[int, dict[str, sx.Binary]] = {}
    if any(name in names_in(e) for s in sx.every_statement(tuple(others)) for e in sx.children(s)[0]):
        return {}
    if name in names_in(flow.m.guard):
        return {}
    for n, block in flow.m.branches.items():
        trees = [folded(e, flow.constants) for s in sx.every_statement(block) for e in sx.children(s)[0]]
        used = sum(x == name for tree in trees for x in names_in(tree))
        mine = [x for tree in trees for x in _comparisons(tree, name)]
        if used != len(mine):
            return {}
        if mine:
            found[n] = {expression_text(x).lower(): x for x in mine}
    return found


def _comparisons(tree: sx.Expression, name: str) -> Iterator[sx.Binary]:
    match tree:
        case sx.Binary(op=op, left=sx.Name(), right=sx.Literal(value=value)) if (
            op in COMPARED and type(value) is int and value >= 0
        ):
            if str(tree.left).lower() == name:
                yield tree
    for part in sx.parts(tree):
        yield from _comparisons(part, name)


def _begins_where_asked(flow: Flow, name: str, asking: set[int], others: list[sx.Statement]) -> bool:
    """Whether it is set to nothing wherever a state that asks is come to, and nowhere else while one lasts."""
    m = flow.m
    for own, block in [(None, tuple(others)), *m.branches.items()]:
        for inner in _blocks(block):
            resets = [s for s in inner if isinstance(s, sx.Assign) and str(s.target).lower() == name]
            leads = [s for s in inner if isinstance(s, sx.Assign) and str(s.target).lower() == m.next]
            if not all(isinstance(s.value, sx.Literal) and s.value.value == 0 for s in resets):
                return False
            if resets and not leads and (own is None or own in asking):
                return False
            to = {value_of(folded(s.value, flow.constants)) for s in leads}
            if not resets and (None in to or to & asking):
                return False
        if any(name in written_by((s,)) for s in sx.every_statement(block) if isinstance(s, (sx.For, sx.Loop))):
            return False
    return True


def _blocks(block: Block) -> Iterator[Block]:
    """A block and those in it."""
    yield block
    for s in block:
        for inner in sx.children(s)[1]:
            yield from _blocks(inner)


def _as_time(m: Machine, n: int, x: sx.Binary, step: int, period_ms: int) -> sx.Expression:
    """A comparison as one of the time of the step, which is as many scans as were counted."""
    assert isinstance(x.right, sx.Literal)
    value = int(x.right.value)
    scans = -(-value // step) if x.op in (">=", "<") else value // step
    time = sx.Name((m.states[n].name, "T"), NOWHERE)
    return sx.Binary(x.op, time, sx.Literal(scans * period_ms, Type.TIME, NOWHERE), NOWHERE)
