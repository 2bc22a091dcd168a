"""The rows of a scenario as values: what is given, what is done when, and what is expected."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.language import syntax as sx


@dataclass(frozen=True, slots=True)
class Moment:
    """When a row is done: `kind` is at, after (the row before), when (a condition), on_step (a step is entered)."""

    kind: str
    ms: int = 0
    condition: str = ""
    sequence: str = ""
    step: str = ""


@dataclass(frozen=True, slots=True)
class DeedRow:
    """Something done to the machine. `ms` is how long a button is pressed; `value` a position, literal text or name."""

    line: int
    text: str
    moment: Moment
    do: str
    target: str = ""
    value: str = ""
    ms: int = 0


@dataclass(frozen=True, slots=True)
class GivenRow:
    """How the run begins: `kind` is value (of a setting, or where a selector stands), recipe (its name is the value), parameter
    (of a device), failure, held.
    """

    line: int
    text: str
    kind: str
    target: str
    parameter: str = ""
    value: str = ""


@dataclass(frozen=True, slots=True)
class ExpectRow:
    """An expectation. `conditions` are one or two expressions, `names` a sequence with steps, `note` an alarm's text or a
    mark, `count` how often, `until_ms` the end of a span, `limits` the least and the most a value may be.
    """

    line: int
    text: str
    kind: str
    ms: int = 0
    conditions: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    note: str = ""
    count: int = 0
    until_ms: int = 0
    limits: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True, slots=True)
class EachRow:
    """A list: the rows are run once for every one of `items`, put in the place of `name`."""

    line: int
    name: str
    items: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Sheet:
    """A parsed scenario: rows in their order and the length of the run in ms (0 when no row says it).

    `start` is the mark the run begins at, empty for the initial situation.
    """

    deeds: tuple[DeedRow, ...] = ()
    expectations: tuple[ExpectRow, ...] = ()
    length_ms: int = 0
    problems: tuple[sx.Problem, ...] = ()
    given: tuple[GivenRow, ...] = ()
    start: str = ""
    shows: tuple[tuple[int, str], ...] = field(default=())

    @property
    def marks(self) -> tuple[str, ...]:
        """The situations the scenario names."""
        return tuple(r.value for r in self.deeds if r.do == "mark")
