"""How a state program may be put as a sequence, and what came of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields

from spokeshave.language import syntax as sx
from spokeshave.model.project import Sequence, Signal


@dataclass(frozen=True, slots=True)
class Choices:
    """How a state program is put as a sequence: the nicest form first, each taken back where it is not what the text does."""

    marks: bool = True
    """Variables that follow the state become marks, else they are set by logic."""
    early: bool = True
    """Outputs that branches set may all come one scan earlier, else each is marked where it is."""
    delays: bool = True
    """A variable that comes or goes one scan behind its state is marked with that delay, else set by logic."""
    times: bool = True
    """Timers of states become step times, else they stay as instances."""
    edges: bool = True
    """Edge blocks and other timers become RISING, FALLING and HELD."""
    hold: bool = True
    """A condition around the branches holds the sequence, else it stands in every transition."""
    pulses: bool = True
    """What runs in the first scan of a state is a P1 block, else logic that knows the last state."""
    stay: bool = True
    """What a state does in every scan is a body of its step, else opening logic."""
    leave: bool = True
    """What is done on the way out is a body of its step, else opening logic."""
    first: bool = True
    """Opening and closing logic run in the first scan of all, in which the text does not count, else from the second on."""

    trip: bool = True
    """An override that leads from every state to one of them is a trip, else a way out of each step."""
    nested: bool = True
    """A CASE inside a state of another one is a sequence beside that, else what this state does."""
    apart: frozenset[str] = frozenset()
    """Variables, by their names in lower case, that opening logic sets as the text does, whatever becomes of the others."""

    @property
    def losses(self) -> int:
        return sum(not getattr(self, name) for name in FLAGS)


FLAGS = tuple(f.name for f in fields(Choices) if f.name != "apart")
"""The choices of which there are two."""


@dataclass(frozen=True, slots=True)
class Note:
    """What became of a part of the text, which begins at a line."""

    line: int
    text: str


@dataclass
class Lifted:
    """The sequences of a text and the logic around them. `gone` are names of signals and instances that nobody needs any more.

    `spots` are the kind, sequence, name, index and place in the text of what was made.
    """

    sequences: list[Sequence] = field(default_factory=list)
    opening: str = ""
    closing: str = ""
    more: list[Signal] = field(default_factory=list)
    gone: set[str] = field(default_factory=set)
    notes: list[Note] = field(default_factory=list)
    spots: list[tuple[str, str, str, int, sx.Span]] = field(default_factory=list)
    speaks: Callable[[str], str] = str
    """Puts a text that speaks of the states into the words of the sequences."""
