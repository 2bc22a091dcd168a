"""What a program compares with things that pass by themselves: step times, timers, numbers that devices give.

Read from the checked texts once, when a machine file is linked; `skip` asks it when the next scan is due.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from operator import itemgetter
from typing import TYPE_CHECKING, Any

from spokeshave.engine.waits import MIRROR
from spokeshave.language import LanguageError
from spokeshave.language import checked as ck
from spokeshave.language.compile import Choice, Compiled, Unit, compile_units
from spokeshave.model.project import SignalClass, Type

if TYPE_CHECKING:
    from spokeshave.engine.names import SlotTable

_ET = 3
"""Where the elapsed time of a timer stands behind its base."""


@dataclass(frozen=True, slots=True)
class Comparison:
    """Something that passes, compared with something that does not. `other` gives its value, or None where it has none now: a row
    outside of its table, say, in a text that a condition around it keeps from being run.
    """

    op: str
    other: Compiled
    tree: ck.Checked


@dataclass(frozen=True, slots=True)
class Times:
    """What passes, by slot: step times, REAL inputs; and timers as (kind, base)."""

    comparisons: dict[int, tuple[Comparison, ...]]
    """Of step times."""
    fluid: frozenset[int]
    """Step times that are read in any other way than in a comparison: while their step is active every scan is run."""
    borders: dict[int, tuple[Comparison, ...]]
    """Of REAL inputs that are only compared, and only with constants and settings."""
    timers: tuple[tuple[str, int], ...]
    elapsed_read: bool
    fixed: bool
    """Whether times are compared with constants and settings only."""
    unseen: Callable[[list[Any]], Any]
    """Gives the values that neither the trace shows nor an event tells, and that differ after a scan that did something."""

    def thresholds(self, number: int) -> tuple[tuple[bool, Compiled], ...] | None:
        """What a device's number in this slot is compared with (see `LinkedDevice`); None if it matters as such."""
        if number not in self.borders:
            return None
        return tuple((c.op in ("gt", "le"), c.other) for c in self.borders[number])


class _Reader:
    """Sorts what texts read into comparisons and other uses."""

    def __init__(self, steps: frozenset[int], numbers: frozenset[int], fixed: frozenset[int]) -> None:
        self.steps, self.numbers, self.fixed = steps, numbers, fixed
        self.compared: list[tuple[int, str, ck.Checked]] = []
        self.otherwise: set[int] = set()

    def copy(self) -> _Reader:
        """One that has read the same and reads on by itself."""
        other = _Reader(self.steps, self.numbers, self.fixed)
        other.compared, other.otherwise = list(self.compared), set(self.otherwise)
        return other

    def read(self, node: ck.Checked) -> None:
        match node:
            case ck.Load():
                self.otherwise.add(node.slot)
            case ck.Edge():
                self.read(node.operand)
                if node.time is not None:
                    self.read(node.time)
            case ck.Invoke() | ck.Element():
                self.otherwise |= {x.slot for x in ck.loads(node)}
            case ck.Apply():
                if not (node.op in MIRROR and self._comparison(node)):
                    for a in node.args:
                        self.read(a)

    def _comparison(self, node: ck.Apply) -> bool:
        a, b = node.args
        for op, one, other in ((node.op, a, b), (MIRROR[node.op], b, a)):
            if not isinstance(one, ck.Load):
                continue
            slots = {x.slot for x in ck.loads(other)}
            passes = one.slot in self.steps and not slots & self.steps
            # Two numbers that move, or one that may be met and missed between two scans, need every reading.
            passes |= one.slot in self.numbers and slots <= self.fixed and op not in ("eq", "ne")
            if passes:
                self.compared.append((one.slot, op, other))
                self.otherwise |= slots
                return True
        return False


class TimesReader:
    """Looks through all texts of a project once. `steps` are the slots of step times, `unseen` those for `Times.unseen`."""

    def __init__(self, table: SlotTable, units: Sequence[Unit], steps: frozenset[int], unseen: Sequence[int]) -> None:
        self._steps = steps
        timers = {(kind, base) for kind, base in table.base.values() if kind in ("TON", "TOF", "TP")}
        self._timers = tuple(sorted(timers))
        self._elapsed = {base + _ET for _, base in timers}
        of_class = {
            c: {table.final[s.name.lower()] for s in table.project.variables if s.cls is c} for c in SignalClass
        }
        numbers = frozenset(table.final[s.name.lower()] for s in table.project.variables if s.type is Type.REAL)
        self._read = _Reader(steps, numbers & of_class[SignalClass.INPUT], frozenset(of_class[SignalClass.SETTING]))
        for _, tree in units:
            for node in expressions_of(tree):
                self._read.read(node)
        holds = (time for _, _, _, time in table.edges if time is not None)
        self._fixed_holds = all(x.slot in self._read.fixed for time in holds for x in ck.loads(time))
        self._code = _comparisons(self._read.compared)
        looked_at = [i for i in unseen if i not in self._elapsed]
        self._unseen = itemgetter(*looked_at) if looked_at else lambda v: None

    def times(self, also: Sequence[ck.Checked] = ()) -> Times:
        """What passes and is compared, in the texts and in the conditions of `also`."""
        reader, steps = self._read.copy(), self._steps
        for tree in also:
            reader.read(tree)
        code = [*self._code, *_comparisons(reader.compared[len(self._code) :])]
        comparisons: dict[int, tuple[Comparison, ...]] = {}
        for (slot, _, _), comparison in zip(reader.compared, code):
            comparisons[slot] = (*comparisons.get(slot, ()), comparison)
        return Times(
            {slot: c for slot, c in comparisons.items() if slot in steps},
            steps & reader.otherwise,
            {slot: comparisons.get(slot, ()) for slot in reader.numbers - reader.otherwise},
            self._timers,
            bool(self._elapsed & reader.otherwise),
            self._fixed_holds
            and all(x.slot in reader.fixed for _, _, other in reader.compared for x in ck.loads(other)),
            self._unseen,
        )


def _comparisons(compared: Sequence[tuple[int, str, ck.Checked]]) -> list[Comparison]:
    worked_out = [other for _, _, other in compared if not isinstance(other, (ck.Const, ck.Load))]
    code = iter(compile_units([(0, other) for other in worked_out]))
    return [Comparison(op, _value_of(other) or partial(_or_none, next(code)), other) for _, op, other in compared]


def _value_of(tree: ck.Checked) -> Compiled | None:
    """A constant or a variable, which always has a value and needs no code."""
    if isinstance(tree, ck.Load):
        return itemgetter(tree.slot)
    return partial(_constant, tree.value) if isinstance(tree, ck.Const) else None


def _constant(value: Any, v: list[Any]) -> Any:
    return value


def _or_none(compiled: Compiled, v: list[Any]) -> Any:
    try:
        return compiled(v)
    except LanguageError:
        return None


def expressions_of(tree: ck.Checked | tuple[ck.CheckedStatement, ...] | Choice) -> Iterator[ck.Checked]:
    """All expressions of a text; those of a choice are texts of their own too."""
    if isinstance(tree, Choice):
        return
    if not isinstance(tree, tuple):
        yield tree
        return
    for s in tree:
        expressions, blocks = ck.inner(s)
        yield from expressions
        for block in blocks:
            yield from expressions_of(block)
