"""What can come next in a scenario row, from its grammar and the names of the machine file."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

from lark import Token
from lark.exceptions import UnexpectedCharacters, UnexpectedToken

from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.language.expected import row_grammar
from spokeshave.language.scenario import parse_scenario
from spokeshave.language.scenario_lists import cases_of
from spokeshave.machine.kinds import KINDS, failures_of
from spokeshave.model.alarm_sources import sources, tells
from spokeshave.model.project import Project, SignalClass

_PART = re.compile(r'"[^"]*$|[\w.]*$')
_NOT_OFFERED = ("AMP", "PLUS", "STAR", "SLASH", "POW", "EQ", "NE", "LE", "GE", "LT", "GT", "MINUS", "LPAR", "RPAR")
_OPERATORS = ("AND", "OR", "XOR", "NOT", "MOD", "TRUE", "FALSE")


def complete(project: Project, row: str, text: str = "") -> list[str]:
    """The words and names that can stand where `row` ends, the started one included; empty where nothing fits.

    `text` is the whole scenario, for its lists. Names that begin as the started word does come first.
    """
    found = _PART.search(row)
    started = found[0] if found else ""
    before = row[: len(row) - len(started)]
    parser = row_grammar().parse_interactive(before)
    tokens: list[Token] = []
    try:
        for token in parser.exhaust_lexer():
            tokens.append(token)
    except (UnexpectedToken, UnexpectedCharacters):
        return []
    accepted: set[str] = parser.accepts()  # type: ignore[no-untyped-call]
    offered = [*_words(accepted), *_names(project, tokens, accepted, text)]
    if "." in started and any(t.type == "GIVEN" for t in tokens):
        offered += [f"{d.name}.{p.name}" for d in project.devices for p in KINDS[d.kind].parameters]
    wanted = started.lower()
    fitting = [w for w in dict.fromkeys(offered) if wanted in w.lower() and w.lower() != wanted]
    return sorted(fitting, key=lambda w: not w.lower().startswith(wanted))


def _words(accepted: Iterable[str]) -> list[str]:
    """Keywords of the grammar, as they are written; those of conditions are large."""
    patterns = {t.name: t.pattern for t in row_grammar().terminals}
    out = []
    for name in sorted(accepted):
        pattern = patterns.get(name)
        if pattern is not None and pattern.type == "str" and name not in _NOT_OFFERED and pattern.value[0].isalpha():
            out.append(pattern.value.upper() if name in _OPERATORS else pattern.value.lower())
    return out


def _names(project: Project, tokens: list[Token], accepted: set[str], text: str) -> list[str]:
    kinds = [t.type for t in tokens]
    last = kinds[-1] if kinds else ""
    deed = next((k for k in reversed(kinds) if k in _TARGETS), "")
    lists = [one.name for one in cases_of(text).lists]
    steps = [f"{q.name}.{s.name}" for q in project.sequences for s in q.steps]
    if "IDENT" in accepted:
        return [r.ident for r in project.requirements]
    if last == "DOT":
        q = project.sequence(tokens[-2])
        return [s.name for s in q.steps] if q is not None else []
    if "STRING" in accepted and (last == "RECIPE" or tokens[-1].lower() == "recipe"):
        return [f'"{r.name}"' for r in project.recipes] + lists
    if "STRING" in accepted and last == "NAME":
        items = next((one.items for one in cases_of(text).lists if one.name == tokens[-1]), (str(tokens[-1]),))
        devices = (d for item in items if (d := project.device(item)) is not None)
        return list(dict.fromkeys(f'"{f}"' for d in devices for f in failures_of(d))) + lists
    if kinds[-2:] == ["CYCLE", "_OF"]:
        return [q.name for q in project.sequences]
    if "STRING" in accepted and last in ("ALARM", "AT", "_OF"):
        return _texts(project, last, text) + (steps if last == "_OF" else []) + lists
    if "NAME" not in accepted:
        return []
    if "ORDER" in kinds:
        if last == "ORDER":
            return [q.name for q in project.sequences]
        q = project.sequence(tokens[kinds.index("ORDER") + 1])
        return [s.name for s in q.steps] if q is not None else []
    if last in ("ON", "REACH") or last == "EXPECT":
        return steps + lists
    if last == deed:
        return _TARGETS[deed](project) + lists
    if last in ("_TO", "IN", "IS") or "NOT" not in accepted:  # a value or a time
        return lists
    return sorted({*TextScope(SlotTable(project)).known()}, key=str.lower) + lists


def _texts(project: Project, last: str, text: str) -> list[str]:
    """Alarms that can be raised, or marks: of other scenarios to start at, of this one to count from."""
    if last == "_OF":
        return [f'"{m}"' for m in parse_scenario(text).marks]
    if last == "AT":
        return [f'"{m}"' for s in project.scenarios if s.text != text for m in parse_scenario(s.text).marks]
    return [f'"{source.phrase}"' for source in sources(project) if tells(source)]


def _buttons(project: Project) -> list[str]:
    return [d.name for d in project.devices if KINDS[d.kind].positions and d.kind not in ("selector", "setpoint")]


def _turned(project: Project) -> list[str]:
    return [d.name for d in project.devices if d.kind in ("selector", "setpoint")]


def _signals(project: Project, *classes: SignalClass) -> list[str]:
    return [s.name for s in project.signals if s.cls in classes]


def _cells(project: Project) -> list[str]:
    """Cells of tables of settings that have rows."""
    return [s.name for s in project.settings if "[" in s.name][:MOST_CELLS]


def _devices(project: Project) -> list[str]:
    return [d.name for d in project.devices]


MOST_CELLS = 200
"""So many cells are offered."""
_TARGETS: dict[str, Callable[[Project], list[str]]] = {
    "PRESS": _buttons, "HOLD": _buttons, "RELEASE": _buttons, "TURN": _turned, "BREAK": _devices, "MEND": _devices,
    "SET": lambda p: [*_signals(p, SignalClass.INPUT, SignalClass.SETTING), *_cells(p)],
    "FORCE": lambda p: _signals(p, SignalClass.INPUT, SignalClass.OUTPUT),
    "UNFORCE": lambda p: _signals(p, SignalClass.INPUT, SignalClass.OUTPUT),
    "ASK": lambda p: _signals(p, SignalClass.OUTPUT),
    "GIVEN": lambda p: [*(["recipe"] if p.recipes else []), *_signals(p, SignalClass.SETTING), *_cells(p), *_devices(p)],
}  # fmt: skip
