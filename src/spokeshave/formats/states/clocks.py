"""Timers and edge blocks that are nothing but the time of a step, a HELD or a RISING."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import partial

from spokeshave.formats.states.counted import counted
from spokeshave.formats.states.find import Machine, Side
from spokeshave.formats.states.flow import Flow
from spokeshave.formats.states.fold import (
    ENTRY,
    FALSE,
    NOWHERE,
    TRUE,
    folded,
    is_false,
    is_true,
    names_in,
    negated,
    read_by,
    same,
    written_by,
)
from spokeshave.language import syntax as sx
from spokeshave.language.printer import expression_text
from spokeshave.model.diagnostics import several
from spokeshave.model.project import Instance, Signal, Type

_EDGES = {"R_TRIG": "RISING", "F_TRIG": "FALLING"}


@dataclass
class Clocks:
    """What was found: `dropped` are instances and variables whose calls say nothing more, by name in lower case; `notes` what
    became of each, with the place of its call.
    """

    dropped: set[str] = field(default_factory=set)
    notes: list[tuple[sx.Span, str]] = field(default_factory=list)
    moved: dict[str, sx.BlockCall] = field(default_factory=dict)
    """Calls that stand above the branches now."""
    asked: dict[str, list[sx.Binary] | None] = field(default_factory=dict)
    """The comparisons of the ET of each timer; None where it is used otherwise."""


def take_clocks(
    flow: Flow, instances: dict[str, Instance], signals: dict[str, Signal], period_ms: int, written: set[str],
    following: dict[str, set[int]], wanted: tuple[bool, bool] = (True, True), first_known: bool = False,
) -> Clocks:  # fmt: skip
    """Finds them and puts them into `flow.special`. `written` are the variables that the branches set; `following` flags that
    are TRUE in some states alone; `wanted` whether step times are, and edges and HELD.
    """
    times, edges = wanted
    if not edges:
        instances = {low: i for low, i in instances.items() if i.kind not in _EDGES}
    if not times:
        following = {}
    clocks, m = Clocks(), flow.m
    calls = {low: list(_calls(flow, low)) for low in instances}
    clocks.asked = _times_asked(flow, instances)
    for low, instance in instances.items():
        mine = calls[low]
        if instance.kind in _EDGES and len(mine) == 1 and mine[0][0] is Side.ABOVE:
            if instance.kind == "R_TRIG" or first_known or _on_at_first(mine[0][1], signals):
                _edge(flow, low, _EDGES[instance.kind], mine[0][1], written, clocks)
        elif instance.kind == "TON" and len(mine) == 1 and isinstance(mine[0][0], Side):
            _timer(flow, low, mine[0][0], mine[0][1], period_ms, written, following, clocks, wanted)
        elif instance.kind == "TON" and times and mine and not any(isinstance(where, Side) for where, _ in mine):
            _in_branches(flow, low, mine, period_ms, clocks)
        if clocks.asked[low] is None:
            clocks.dropped.discard(low)  # its time is used, and would stand still
    if times:
        _own_clock(flow, m, period_ms, clocks)
        for grows in counted(flow, period_ms, signals):
            if (name := str(grows.target)).lower() not in clocks.dropped:
                clocks.dropped.add(name.lower())
                told = f"{name} is the time of the steps that ask for it, at {period_ms} ms a scan"
                clocks.notes.append((grows.span, told))
    return clocks


def _on_at_first(call: sx.BlockCall, signals: dict[str, Signal]) -> bool:
    """Whether what an F_TRIG looks at is TRUE before anything happens: else it tells of an edge in its very first call."""
    known = {low: sx.Literal(s.start, s.type, NOWHERE) for low, s in signals.items() if s.type is Type.BOOL}
    given = _inputs(call)
    return given is not None and "clk" in given and is_true(folded(given["clk"], known))


def _calls(flow: Flow, low: str) -> Iterator[tuple[Side | int, sx.BlockCall]]:
    """The calls of an instance: on which side of the branches, or in the branch of which state; a call under a condition
    counts as one that nobody understands, on both. One that only ends it where a state begins is left out.
    """
    last = last_of(flow)
    for i, s in enumerate(flow.around):
        begins = flow.m.side(i) is Side.ABOVE and _begins(s, flow, last)
        for call, outer in _in(s):
            if str(call.instance).lower() == low and not (begins and _ends(call)):
                yield flow.m.side(i), call
                if not outer:
                    yield flow.m.side(i), call
    for n, block in flow.m.branches.items():
        for s in block:
            yield from ((n, call) for call, _ in _in(s) if str(call.instance).lower() == low)


def _begins(s: sx.Statement, flow: Flow, last: str) -> bool:
    """Whether a statement does what is done where a state begins."""
    if not isinstance(s, sx.If) or len(s.branches) > 1 or s.otherwise:
        return False
    asked = s.branches[0][0]
    return (
        same(asked, ENTRY)
        or _asks_change(asked, flow.m, last)
        or str(asked).lower() in entry_flags(flow.m, last, flow.around)
    )


def _ends(call: sx.BlockCall) -> bool:
    given = _inputs(call)
    return given is not None and "in" in given and is_false(folded(given["in"], {}))


def _in(s: sx.Statement, outer: bool = True) -> Iterator[tuple[sx.BlockCall, bool]]:
    if isinstance(s, sx.BlockCall):
        yield s, outer
    for block in sx.children(s)[1]:
        for inner in block:
            yield from _in(inner, False)


def _inputs(call: sx.BlockCall) -> dict[str, sx.Expression] | None:
    """What a call gives, by name; None if it takes something too."""
    return None if call.outputs else {a.name.lower(): a.value for a in call.inputs}


def _edge(flow: Flow, low: str, word: str, call: sx.BlockCall, written: set[str], clocks: Clocks) -> None:
    given = _inputs(call)
    if given is None or set(given) != {"clk"} or set(names_in(given["clk"])) & (written | {flow.m.var, flow.m.next}):
        return
    if flow.m.var in set(names_in(given["clk"])):
        return
    rising = sx.Call(word, (sx.Argument("", given["clk"]),), NOWHERE)
    for n in flow.m.branches:
        flow.special.setdefault(n, {})[f"{low}.q"] = rising
    clocks.dropped.add(low)
    clocks.notes.append((call.span, f"{call.instance} is {expression_text(rising)}"))


def _compared(tree: sx.Expression) -> Iterator[tuple[str, sx.Binary, int]]:
    """The comparisons of the ET of timers with a time that stands right of it: the timer, the comparison, its milliseconds."""
    match tree:
        case sx.Binary(op=">=" | "<", left=sx.Name(parts=(name, part)), right=sx.Literal(type=Type.TIME, value=ms)):
            if part.lower() == "et":
                yield name.lower(), tree, int(ms)
    for inner in sx.parts(tree):
        yield from _compared(inner)


def _times_asked(flow: Flow, instances: dict[str, Instance]) -> dict[str, list[sx.Binary] | None]:
    """Of each timer the comparisons of its ET; None where its ET is used otherwise, or compared with what may be beyond its PT."""
    texts = [e for s in sx.every_statement((*flow.around, *flow.m.inside)) for e in sx.children(s)[0]] + [flow.m.guard]
    used = Counter(name.removesuffix(".et") for tree in texts for name in names_in(tree) if name.endswith(".et"))
    found: dict[str, list[sx.Binary] | None] = {low: [] for low in instances}
    if not used:
        return found
    asked: dict[str, list[tuple[sx.Binary, int]]] = {}
    for tree in texts:
        for low, x, ms in _compared(tree):
            asked.setdefault(low, []).append((x, ms))
    for low in used.keys() & found.keys():
        mine, most = asked.get(low, []), _least_pt([call for _, call in _calls(flow, low)])
        within = len(mine) == used[low] and all(0 < ms <= most for _, ms in mine)
        found[low] = [x for x, _ in mine] if within else None
    return found


def _least_pt(calls: list[sx.BlockCall]) -> int:
    """The shortest PT of the calls that may start a timer, in milliseconds; 0 where one is no literal."""
    most: list[int] = []
    for given in (_inputs(call) or {} for call in calls):
        if not is_false(given.get("in", FALSE)):
            pt = given.get("pt")
            most.append(int(pt.value) if isinstance(pt, sx.Literal) and pt.type is Type.TIME else 0)
    return min(most, default=0)


def _know(
    flow: Flow, low: str, n: int, reached: Callable[[sx.Expression], sx.Expression], pt: sx.Expression | None,
    asked: list[sx.Binary],
) -> None:  # fmt: skip
    """What a timer says in a state: that `pt` is over and, where its ET is compared, that those times are; `reached` says so of
    a time. Without `pt` it is off there.
    """
    known = flow.special.setdefault(n, {})
    known[f"{low}.q"] = FALSE if pt is None else reached(pt)
    if asked:
        known[f"{low}.et ?"] = TRUE
    for x in asked:
        over = FALSE if pt is None else reached(x.right)
        known[expression_text(x).lower()] = over if x.op == ">=" else _not_yet(over)


def _not_yet(over: sx.Expression) -> sx.Expression:
    return replace(over, op="<=") if isinstance(over, sx.Binary) else negated(over)


def _timer(
    flow: Flow, low: str, side: Side, call: sx.BlockCall, period_ms: int, written: set[str],
    following: dict[str, set[int]], clocks: Clocks, wanted: tuple[bool, bool],
) -> None:  # fmt: skip
    times, edges = wanted
    given, m = _inputs(call), flow.m
    if given is None or set(given) != {"in", "pt"}:
        return
    names, pt = set(names_in(given["in"])), given["pt"]
    asked = clocks.asked[low] or []
    if times and (last := last_of(flow)) and _says_same(given["in"], flow, last):
        for n in m.branches:  # off in the scan in which the last state follows, so it begins one scan late
            _know(flow, low, n, partial(_reached, m, n, late=2, period_ms=period_ms), pt, asked)
        clocks.dropped |= {low, last}
        clocks.notes.append((call.span, f"{call.instance} is the time of each step, which begins a scan behind it"))
        return
    asks_state = bool(names & {m.var, m.next})
    flags = names & set(following)
    if not asks_state and not flags:
        if edges and side is Side.ABOVE and not names & written and not set(names_in(pt)) & written and not asked:
            held = sx.Call("HELD", (sx.Argument("", given["in"]), sx.Argument("", pt)), NOWHERE)
            for n in m.branches:
                flow.special.setdefault(n, {})[f"{low}.q"] = held
            clocks.dropped.add(low)
            if f"{low}.q" in read_by(m.inside):
                clocks.notes.append((call.span, f"{call.instance} is {expression_text(held)}"))
        return
    tests = {}
    for n in m.branches:
        known = {**flow.constants, **m.known(n, n)}
        known |= {f: sx.Literal(n in following[f], Type.BOOL, NOWHERE) for f in flags}
        tests[n] = folded(given["in"], known)
    on = [n for n, t in tests.items() if is_true(t)]
    if times and side is Side.BELOW and on and not asked and all(is_true(t) or is_false(t) for t in tests.values()):
        _behind(flow, low, call, pt, on, period_ms, clocks)
    if not times or not on or not all(is_false(t) for n, t in tests.items() if n not in on):
        return
    if len(on) > 1 and any(x.target in on and x.target != n for n in on for x in flow.moves(n)):
        return  # it runs on from one state to the next
    late = 2 if side is Side.BETWEEN and asks_state else 1
    reached = {n: _reached(m, n, pt, late, period_ms) for n in on}
    for n in m.branches:
        _know(flow, low, n, partial(_reached, m, n, late=late, period_ms=period_ms), pt if n in on else None, asked)
    clocks.dropped.add(low)
    told = several(map(expression_text, reached.values()))
    clocks.notes.append(
        (call.span, f"{call.instance} is the time of {'a step' if len(on) == 1 else 'each step'}: {told}")
    )


def _says_same(tree: sx.Expression, flow: Flow, last: str) -> bool:
    """Whether an expression says that the state is the last one, or that a flag which says it is another is off."""
    if isinstance(tree, sx.Unary) and tree.op == "NOT":
        return str(tree.operand).lower() in entry_flags(flow.m, last, flow.around)
    return _asks(tree, "=", flow.m, last)


def _behind(
    flow: Flow, low: str, call: sx.BlockCall, pt: sx.Expression, on: list[int], period_ms: int, clocks: Clocks
) -> None:
    """What a timer that is called below says to statements below it: of one state its time, of several the time they last
    together, for which it is called above with a scan less.
    """
    if not isinstance(pt, sx.Literal) or pt.type is not Type.TIME or int(pt.value) <= 0:
        return
    ms = -(-int(pt.value) // period_ms) * period_ms
    readers = [s for s in flow.around if f"{low}.q" in read_by((s,))]
    inside = any(f"{low}.q" in read_by(b) for b in flow.m.branches.values())
    if len(on) > 1 and (inside or not readers or not all(flow.m.next in written_by((s,)) for s in readers)):
        return
    together: sx.Expression = sx.Name((str(call.instance), "Q"), NOWHERE)
    for old in flow.m.branches:
        for new in flow.m.branches:
            known: sx.Expression = FALSE
            if len(on) == 1 and old == new == on[0]:
                time = sx.Name((flow.m.states[new].name, "T"), NOWHERE)
                known = sx.Binary(">=", time, sx.Literal(ms, Type.TIME, NOWHERE), NOWHERE)
            elif len(on) > 1 and old in on and new in on:
                known = together
            flow.behind.setdefault((old, new), {})[f"{low}.q"] = known
    if len(on) > 1:
        given = _inputs(call) or {}
        sooner = sx.Literal(ms - period_ms, Type.TIME, NOWHERE)
        inputs = (sx.Argument("IN", given["in"]), sx.Argument("PT", sooner))
        clocks.moved[low] = replace(call, inputs=inputs)
        clocks.notes.append((call.span, f"{call.instance} is called above, with one scan less"))


def _in_branches(
    flow: Flow, low: str, calls: list[tuple[Side | int, sx.BlockCall]], period_ms: int, clocks: Clocks
) -> None:
    """A timer that states start for themselves: `Wait(IN := TRUE, PT := T#2s)` in the branch, `IN := FALSE` where it is left."""
    found: dict[int, sx.Expression] = {}
    started: dict[int, sx.Expression] = {}
    for n in flow.m.branches:
        mine = [call for where, call in calls if where == n]
        starts = [c for c in mine if (g := _inputs(c)) is not None and "in" in g and is_true(folded(g["in"], {}))]
        stops = [c for c in mine if (g := _inputs(c)) is not None and "in" in g and is_false(folded(g["in"], {}))]
        if len(starts) + len(stops) != len(mine) or len(starts) > 1:
            return
        if starts:
            first = next((s for s in flow.m.branches[n] if isinstance(s, sx.BlockCall) and s is starts[0]), None)
            given = _inputs(starts[0])
            if first is None or given is None or "pt" not in given:
                return
            started[n] = given["pt"]
            found[n] = _reached(flow.m, n, given["pt"], 1, period_ms)
            clocks.notes.append(
                (starts[0].span, f"{starts[0].instance} is the time of a step: {expression_text(found[n])}")
            )
    if found:
        for n in flow.m.branches:
            _know(
                flow,
                low,
                n,
                partial(_reached, flow.m, n, late=1, period_ms=period_ms),
                started.get(n),
                clocks.asked[low] or [],
            )
        clocks.dropped.add(low)


def _reached(m: Machine, n: int, pt: sx.Expression, late: int, period_ms: int) -> sx.Expression:
    """That the time of a step is beyond `pt` by so many scans as a block is late: with one, just more than it."""
    time = sx.Name((m.states[n].name, "T"), NOWHERE)
    if isinstance(pt, sx.Literal) and pt.type is Type.TIME:
        ms = -(-int(pt.value) // period_ms) * period_ms + (late - 1) * period_ms
        return sx.Binary(">", time, sx.Literal(ms, Type.TIME, NOWHERE), NOWHERE)
    more = pt
    if late > 1:
        more = sx.Binary("+", pt, sx.Literal((late - 1) * period_ms, Type.TIME, NOWHERE), NOWHERE)
    return sx.Binary(">", time, more, NOWHERE)


def _own_clock(flow: Flow, m: Machine, period_ms: int, clocks: Clocks) -> None:
    """A TIME that is set to nothing where the state is another than the last one, and grows by the period in every scan."""
    last = last_of(flow)
    if not last:
        return
    for i, s in enumerate(flow.around):
        if m.side(i) is not Side.ABOVE or not isinstance(s, sx.Assign):
            continue
        name = str(s.target).lower()
        grows = sx.Binary("+", s.target, sx.Literal(period_ms, Type.TIME, NOWHERE), NOWHERE)
        if not same(s.value, grows):
            continue
        resets = [x for x in flow.around if isinstance(x, sx.If) and name in written_by((x,))]
        if len(resets) == 1 and _asks_change(resets[0].branches[0][0], m, last):
            for n in m.branches:
                flow.special.setdefault(n, {})[name] = sx.Name((m.states[n].name, "T"), NOWHERE)
            clocks.dropped |= {name, last}


def last_of(flow: Flow) -> str:
    """The variable that keeps the last state: it takes the state's value and nothing else. Empty without one."""
    m, found = flow.m, dict[str, bool]()
    for s in sx.every_statement((*flow.around, *m.inside)):
        if isinstance(s, sx.Assign):
            name = str(s.target).lower()
            takes = str(s.value).lower() in (m.var, m.next) and name not in (m.var, m.next)
            found[name] = found.get(name, True) and takes
        else:
            found |= dict.fromkeys(written_by((s,)) if not sx.children(s)[1] else (), False)
    return next((name for name, only in found.items() if only), "")


def entry_flags(m: Machine, last: str, around: list[sx.Statement]) -> set[str]:
    """Variables that only say whether the state is another than the last one."""
    found = {str(s.target).lower() for s in around if isinstance(s, sx.Assign) and _asks_change(s.value, m, last)}
    others = [s for s in around if not (isinstance(s, sx.Assign) and _asks_change(s.value, m, last))]
    return found - written_by((*others, *m.inside))


def _asks_change(tree: sx.Expression, m: Machine, last: str) -> bool:
    return _asks(tree, "<>", m, last)


def _asks(tree: sx.Expression, op: str, m: Machine, last: str) -> bool:
    """Whether an expression holds the state against the last one."""
    if not isinstance(tree, sx.Binary) or tree.op != op:
        return False
    return {str(tree.left).lower(), str(tree.right).lower()} in ({m.var, last}, {m.next, last})
