"""Steps as rows of a table, as they go to a spreadsheet and come back: number, step, outputs, awaits, longest, next.

No.  Step    Burner  Gate  Awaits          Longest  Next
10   Idle                  RISING(Start)            Charge
20   Charge          X     GateOpen        6s       Heat
                           Charge.T >= 5s           Idle       a further way out of Charge
"""

from __future__ import annotations

from collections.abc import Sequence as Items
from itertools import pairwise

from spokeshave.model.edits import EditError, free_name, read_marks
from spokeshave.model.flow import rows_of
from spokeshave.model.fragments import Block
from spokeshave.model.project import Action, Sequence, Step, Transition

NUMBER, STEP, AWAITS, LONGEST, NEXT = "No.", "Step", "Awaits", "Longest", "Next"
_HEADS = {"no.": NUMBER, "no": NUMBER, "number": NUMBER, "#": NUMBER, "step": STEP, "name": STEP, "awaits": AWAITS,
          "condition": AWAITS, "longest": LONGEST, "duration": LONGEST, "time": LONGEST, "next": NEXT}  # fmt: skip


def mark_text(step: Step, target: str) -> str:
    """`X` for N, the qualifier with its time otherwise; several blocks on one target joined by ` / `."""
    found = []
    for a in step.actions:
        if a.target.lower() == target.lower():
            time = f" {a.time.removeprefix('T#')}" if a.time else ""
            found.append("X" if a.qualifier == "N" else f"{a.qualifier}{time}")
    return " / ".join(found)


WAITS = "waits with "


def next_text(sequence: Sequence, step: Step, way: Transition | None) -> str:
    """Where a row leads; a step that waits for others names the one of them in whose row the transition stands."""
    if way is not None:
        return " + ".join(way.targets)
    join = next((t for _, t in sequence.leaving(step.name)), None)
    if join is None:
        return ""
    listed = {s.name: i for i, s in enumerate(sequence.steps)}
    return WAITS + max((s for s in join.sources if s in listed), key=lambda s: listed[s])


def table_of(sequence: Sequence, targets: Items[str], steps: Items[str] = ()) -> list[list[str]]:
    """Heads and rows of all steps, or of `steps`; one row for each way out."""
    wanted = {s.lower() for s in steps} or {s.name.lower() for s in sequence.steps}
    rows = [[NUMBER, STEP, *targets, AWAITS, LONGEST, NEXT]]
    for r in rows_of(sequence):
        step = sequence.steps[r.step]
        if step.name.lower() not in wanted:
            continue
        way = None if r.transition is None else sequence.transitions[r.transition]
        condition = "" if way is None else " ".join(way.condition.split())
        own = (
            [str(step.number), step.name, *(mark_text(step, t) for t in targets)]
            if r.first
            else [""] * (2 + len(targets))
        )
        rows.append(
            [*own, condition, step.longest.removeprefix("T#") if r.first else "", next_text(sequence, step, way)]
        )
    return rows


def to_text(rows: list[list[str]]) -> str:
    """Rows as spreadsheets put them on the clipboard: tabs and line ends."""
    return "".join("\t".join(" ".join(c.split()) for c in row) + "\n" for row in rows)


def from_text(text: str) -> list[list[str]]:
    """The rows of a table as a spreadsheet puts it on the clipboard."""
    return [[c.strip() for c in line.split("\t")] for line in text.replace("\r\n", "\n").rstrip("\n").split("\n")]


def has_heads(row: Items[str]) -> bool:
    """Whether a row has the headings that `block_from` reads."""
    return any(_HEADS.get(c.strip().lower()) == STEP for c in row)


def block_from(rows: list[list[str]], sequence: Sequence, targets: Items[str]) -> Block:
    """A block of steps from rows with or without heads; without, the columns are those of `targets` in the sheet.

    Raises EditError that names the row.
    """
    heads = [NUMBER, STEP, *targets, AWAITS, LONGEST, NEXT]
    first = 0
    if rows and any(c.lower() in _HEADS for c in rows[0]):
        heads = [_HEADS.get(c.lower(), c) for c in rows[0]]
        first = 1
    at = {h: i for i, h in enumerate(heads)}
    if STEP not in at:
        raise EditError("the rows have no column Step; copy them with their heads")
    outputs = [(i, h) for i, h in enumerate(heads) if h not in (NUMBER, STEP, AWAITS, LONGEST, NEXT) and h]
    steps: list[Step] = []
    ways: list[tuple[str, str, str]] = []
    for n, row in enumerate(rows[first:], first + 1):
        cell = {h: row[i] if i < len(row) else "" for h, i in at.items()}
        if not any(row):
            continue
        if cell[STEP]:
            actions: list[Action] = []
            for i, target in outputs:
                try:
                    actions += read_marks(row[i] if i < len(row) else "", target)
                except EditError as error:
                    raise EditError(f"row {n}, {target}: {error}") from None
            longest = cell.get(LONGEST, "")
            number = cell.get(NUMBER, "")
            steps.append(Step(
                cell[STEP], int(number) if number.isdigit() else 10 * n, tuple(actions),
                longest=f"T#{longest}" if longest[:1].isdigit() else longest,
            ))  # fmt: skip
        elif not steps:
            raise EditError(f"row {n} has no step; the first row has to name one")
        if cell.get(AWAITS, "") or cell.get(NEXT, ""):
            ways.append((steps[-1].name, cell.get(AWAITS, ""), cell.get(NEXT, "")))
    if not steps:
        raise EditError("there are no rows with steps to paste")
    return _wired(sequence.name, steps, ways, implied=not any(target for _, _, target in ways))


def _wired(sequence: str, steps: list[Step], ways: list[tuple[str, str, str]], implied: bool) -> Block:
    """`implied`: the table says nowhere where steps lead, so each leads to the one below it."""
    taken: set[str] = set()
    unique: list[Step] = []
    for s in steps:
        name = free_name(s.name, taken)
        taken.add(name.lower())
        unique.append(s if name == s.name else Step(name, s.number, s.actions, s.longest))
    names = {s.name.lower(): s.name for s in unique} | {str(s.number): s.name for s in unique}
    joined: dict[str, list[str]] = {}
    inner, out = [], []
    rows = []
    for source, condition, target in ways:
        if target.lower().startswith(WAITS):
            joined.setdefault(target[len(WAITS) :].strip().lower(), []).append(source)
        else:
            rows.append((source, condition or "TRUE", target))
    order = [s.name for s in unique]
    for n, (source, condition, target) in enumerate(rows):
        goals = tuple(names.get(p.strip().lower(), p.strip()) for p in target.split("+")) if target else ()
        waits = joined.pop(source.lower(), [])
        t = Transition((*waits, source), goals, condition)
        if goals and all(g in order for g in goals):
            inner.append(t)
        elif not goals and order.index(source) + 1 < len(order) and n + 1 < len(rows):
            inner.append(Transition((source,), (order[order.index(source) + 1],), condition))
        else:
            out.append(t)
    with_way = {s for t in (*inner, *out) for s in t.sources}
    for a, b in pairwise(order):
        if implied and a not in with_way:
            inner.append(Transition((a,), (b,), f"{a}.T >= T#1s"))
    return Block(sequence, tuple(unique), tuple(inner), tuple(out))
