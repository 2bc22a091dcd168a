"""`for each`: a scenario with lists becomes one text for every choice of their items."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from itertools import product
from math import prod

from spokeshave.language.literals import duration_ms, time_text
from spokeshave.language.scenario import is_row, read_each, row_tree
from spokeshave.language.scenario_rows import EachRow
from spokeshave.language.syntax import Problem, TextError

MOST_CASES = 200


@dataclass(frozen=True, slots=True)
class Case:
    """One choice: `label` tells it (`T = 3 s`), `text` has the rows with the items put in; lines are those of the whole."""

    label: str
    text: str


@dataclass(frozen=True, slots=True)
class Cases:
    """All choices of a scenario, one without lists; `lists` are the names that were found."""

    cases: tuple[Case, ...]
    lists: tuple[EachRow, ...] = ()
    problems: tuple[Problem, ...] = ()


@lru_cache(maxsize=1000)
def cases_of(text: str) -> Cases:
    """The choices of a scenario's lists in their order, the last list the fastest."""
    if "each" not in text.lower():
        return Cases((Case("", text),))
    lines = text.splitlines()
    lists: list[EachRow] = []
    problems: list[Problem] = []
    for number, line in enumerate(lines, 1):
        if not is_row(line) or not re.match(r"\s*for\s+each\b", line, re.IGNORECASE):
            continue
        try:
            found = read_each(line, number, row_tree(line, number))
        except TextError as error:
            problems += error.problems
            continue
        lists.append(found)
        lines[number - 1] = ""
    rest = "\n".join(lines)
    problems += [p for i, one in enumerate(lists) for p in _faults(one, lists[:i], rest)]
    if prod(len(one.items) for one in lists) > MOST_CASES:
        problems.append(Problem(lists[0].line, 1, f"the lists make more than {MOST_CASES} runs", "shorten them"))
    if problems:
        return Cases((), tuple(lists), tuple(problems))
    out = []
    for chosen in product(*(one.items for one in lists)):
        case = rest
        for one, item in zip(lists, chosen):
            case = _word(one.name).sub(lambda _, item=item: _put(item), case)  # type: ignore[misc]
        out.append(Case(", ".join(f"{one.name} = {item}" for one, item in zip(lists, chosen)), case))
    return Cases(tuple(out), tuple(lists))


def _word(name: str) -> re.Pattern[str]:
    """A name as a whole word: no member of something, not inside quotes or a note."""
    return re.compile(
        rf'(?<![\w.#"]){re.escape(name)}(?![\w#])(?=(?:[^"\n]*"[^"\n]*")*[^"\n]*$)', re.IGNORECASE | re.MULTILINE
    )


def _put(item: str) -> str:
    """An item as it can stand in every row: times as literals, which conditions understand too."""
    try:
        return time_text(duration_ms(item)) if item[:1].isdigit() and item[-1].isalpha() else item
    except ValueError:
        return item


def _faults(one: EachRow, before: list[EachRow], rest: str) -> list[Problem]:
    if any(one.name.lower() == other.name.lower() for other in before):
        return [Problem(one.line, 1, f"there are two lists named {one.name}", "give one another name")]
    if not _word(one.name).search(rest):
        return [Problem(one.line, 1, f"no row uses {one.name}", f"write {one.name} where the items belong")]
    return []
