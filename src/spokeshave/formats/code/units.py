"""Plain code in several units: a block for the steps of each sequence, and the program that calls them."""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.formats.code.pieces import Variable
from spokeshave.formats.code.tokens import tokens
from spokeshave.formats.code.write import Generated


@dataclass(frozen=True, slots=True)
class Unit:
    """A block or the program: its name, its statements, the words in them in lower case, and the variables it has alone."""

    name: str
    text: str
    words: frozenset[str]
    own: tuple[Variable, ...]


@dataclass(frozen=True, slots=True)
class Units:
    """What a machine file in plain code consists of. `shared` are variables of the code, and instances of the model, that more than
    one unit speaks of.
    """

    blocks: tuple[Unit, ...]
    program: Unit
    shared: tuple[Variable, ...]


def program_text(made: Generated) -> str:
    """The statements of the program, which calls the blocks of its sequences where there are any."""
    if not made.units:
        return made.text
    texts, at = list[str](), 0
    for name, (first, behind) in made.evolutions.items():
        texts += [made.between(at, first), f"  {made.units[name][1]}();\n"]
        at = behind
    return "".join([*texts, made.between(at, len(made.pieces))])


def units_of(made: Generated) -> Units:
    """The units of code that has blocks. What nothing speaks of is the program's, and so is the time that a scan took."""
    texts = [made.between(*made.evolutions[name]) for name in made.units] + [program_text(made)]
    words = [frozenset(t.word.split(".")[0].lower() for t in tokens(text)) for text in texts]
    last = len(texts) - 1
    helpers = [*(Variable(i.name, i.kind) for i in made.project.instances), *made.variables]
    users = {v.name: [n for n, mine in enumerate(words) if v.name.lower() in mine] or [last] for v in helpers}
    states = set(getattr(made.maker, "at", {}).values())  # everybody may look at them
    shared = tuple(v for v in helpers if (len(users[v.name]) > 1 and v.name != made.scan_time) or v.name in states)
    own = [tuple(v for v in helpers if users[v.name][-1] == n and v not in shared) for n in range(len(texts))]
    names = [block for block, _ in made.units.values()] + [made.program]
    *blocks, program = map(Unit, names, texts, words, own)
    return Units(tuple(blocks), program, shared)
