"""What one click does about a finding: an edit that mends it, where there is one that most likely is meant."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace

from spokeshave.language.references import Names, Target, Where, references
from spokeshave.language.rename import in_all_texts
from spokeshave.language.sub_sequences import end_of, ends_of, with_end
from spokeshave.machine.wiring import exchange, exchanged
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.edits import EditError, change_item, change_step, put_items, remove_item, taken_names
from spokeshave.model.flow_edits import change_transition, delete_step
from spokeshave.model.project import Action, Instance, Project, Qualifier, Sequence
from spokeshave.model.tree import settled


def named_by(project: Project, target: Target, left: Project | None = None) -> list[str]:
    """What names a signal or a step, in a word each; with `left`, what does so in the file that would be left without it.
    A remedy takes nothing away that something else needs.
    """
    names, found = Names(project), []
    project = left or project

    def put(text: str, where: Where) -> str:
        if any(r.target == target for r in references(text, names, where)):
            found.append(where.kind)
        return text

    in_all_texts(project, put)
    if target.kind == "signal":
        found += ["device" for x in project.devices for _, s in x.wires if s.lower() == target.name]
    return found


Remedy = tuple[str, Callable[[Project], Project]]
"""What it does in a few words, and the edit."""
USUAL_LONGEST = "T#10s"


def remedy(project: Project, d: Diagnostic) -> Remedy | None:
    """The remedy of a finding, or None where only a person knows."""
    make = REMEDIES.get(d.code)
    return None if make is None else make(project, d)


def _named_sequence(project: Project, d: Diagnostic) -> Sequence | None:
    return project.sequence(d.place.sequence)


def _delete_signal(project: Project, d: Diagnostic) -> Remedy | None:
    name = d.place.item
    if project.signal(name) is None or named_by(project, Target("signal", name.lower())):
        return None
    kept = tuple(s for s in project.signals if s.name != name)
    return f"Delete {name}", lambda p: put_items(p, "signals", kept)


def _normally_closed(project: Project, d: Diagnostic) -> Remedy | None:
    name = d.place.item
    index = next((i for i, s in enumerate(project.signals) if s.name == name), -1)
    if index < 0:
        return None

    def mend(p: Project) -> Project:
        p = change_item(p, "signals", index, contact="nc")
        for i, x in enumerate(p.devices):
            if x.kind in ("button", "emergency") and x.wired("contact") == name:
                rest = tuple(v for v in x.parameters if v[0] != "normally_closed")
                rest += (("normally_closed", 1.0),) if x.kind == "button" else ()
                p = change_item(p, "devices", i, parameters=rest)
        return p

    return f"Wire {name} normally closed", mend


def _priorities(project: Project, d: Diagnostic) -> Remedy | None:
    q = _named_sequence(project, d)
    if q is None or not 0 <= d.place.index < len(q.transitions):
        return None
    step = q.transitions[d.place.index].sources[0]
    ways = [i for i, _ in sorted(q.leaving(step), key=lambda way: (way[1].priority is None, way[1].priority or 0))]

    def mend(p: Project) -> Project:
        for n, i in enumerate(ways, 1):
            p = change_transition(p, q.name, i, priority=n)
        return p

    return f"Give the ways out of {step} the priorities of their order", mend


def _away(project: Project, d: Diagnostic) -> Remedy | None:
    """Takes the R block away that resets what nobody stores."""
    q = _named_sequence(project, d)
    step = None if q is None else q.step(d.place.step)
    if q is None or step is None:
        return None
    target = d.place.item.split()[-1].lower()
    kept = tuple(a for a in step.actions if not (a.qualifier.resets and a.target.lower() == target))
    return f"Take the R block out of {step.name}", lambda p: change_step(p, q.name, step.name, actions=kept)


def _exchange_window(project: Project, d: Diagnostic) -> Remedy | None:
    q = _named_sequence(project, d)
    step = None if q is None else q.step(d.place.item)
    if q is None or step is None or step.shortest == step.longest:
        return None
    changes = {"shortest": step.longest, "longest": step.shortest}
    return "Exchange shortest and longest", lambda p: change_step(p, q.name, step.name, **changes)


def _in_condition(
    edit: Callable[[Project, Diagnostic, str], str], what: str
) -> Callable[[Project, Diagnostic], Remedy | None]:
    def make(project: Project, d: Diagnostic) -> Remedy | None:
        q = _named_sequence(project, d)
        if q is None or not 0 <= d.place.index < len(q.transitions):
            return None
        text = edit(project, d, q.transitions[d.place.index].condition)
        if text == q.transitions[d.place.index].condition:
            return None
        return what.format(text=text), lambda p: change_transition(p, q.name, d.place.index, condition=text)

    return make


def _rising(project: Project, d: Diagnostic, text: str) -> str:
    name = d.message.split()[0]
    return re.sub(rf"\b{re.escape(name)}\b", f"RISING({name})", text, count=1)


def _at_least(project: Project, d: Diagnostic, text: str) -> str:
    name = d.message.split()[0]
    found = re.search(rf"\b{re.escape(name)}\s*(=|<>)", text)
    if found is None:
        return text
    return f"{text[: found.start(1)]}{'>=' if found[1] == '=' else '<'}{text[found.end(1) :]}"


def _longest(project: Project, d: Diagnostic) -> Remedy | None:
    q = _named_sequence(project, d)
    if q is None:
        return None
    return f"Give it {USUAL_LONGEST[2:]}", lambda p: change_step(p, q.name, d.place.item, longest=USUAL_LONGEST)


def _delete_step(project: Project, d: Diagnostic) -> Remedy | None:
    q = _named_sequence(project, d)
    step = None if q is None else q.step(d.place.item)
    if q is None or step is None:
        return None
    left = delete_step(project, q.name, step.name)
    if named_by(project, Target("step", step.name.lower(), q.name.lower()), left):
        return None
    ways = sum(1 for _ in q.leaving(step.name))
    with_it = [f"{n} {what}{'s' if n != 1 else ''}" for n, what in ((ways, "way"), (len(step.actions), "action")) if n]
    more = f" with its {' and '.join(with_it)}" if with_it else ""
    return f"Delete {step.name}{more}", lambda p: delete_step(p, q.name, step.name)


def _whole_scope(project: Project, d: Diagnostic) -> Remedy | None:
    index = next((i for i, t in enumerate(project.trips) if t.name == d.place.item), -1)
    return None if index < 0 else ("Give it all sequences", lambda p: change_item(p, "trips", index, scope=None))


def _exchange_wires(project: Project, d: Diagnostic) -> Remedy | None:
    pair = next(((a, b) for name, a, b in exchanged(project) if name == d.place.item), None)
    return None if pair is None else ("Exchange the wires", lambda p: exchange(p, d.place.item, *pair))


def _reset_at_start(project: Project, d: Diagnostic) -> Remedy | None:
    """An R block in the initial step, for what is stored and never reset."""
    q = _named_sequence(project, d)
    initial = None if q is None else q.step(q.initial)
    if q is None or initial is None:
        return None
    target = d.place.item.split()[-1]
    actions = (*initial.actions, Action(Qualifier.R, target))
    return f"Reset {target} in {initial.name}", lambda p: change_step(p, q.name, initial.name, actions=actions)


def _no_stale_waiver(project: Project, d: Diagnostic) -> Remedy | None:
    kept = tuple(w for w in project.waivers if f"the waiver of {w.code} at {w.place} " not in d.message)
    return "Take the waiver away", lambda p: put_items(p, "waivers", kept)


_NO_BLOCK = re.compile(r"there is no block (\w+)")
_KIND_BY_INPUT = (
    ("cd", "cu", "CTUD"),
    ("cu", "", "CTU"),
    ("cd", "", "CTD"),
    ("s1", "", "SR"),
    ("r1", "", "RS"),
    ("clk", "", "R_TRIG"),
)


def _declare(project: Project, d: Diagnostic) -> Remedy | None:
    """Declares a block that is called; its kind follows from the inputs it is called with."""
    found = _NO_BLOCK.search(d.message)
    if found is None or found[1].lower() in taken_names(project):
        return None
    name = found[1]
    texts = (project.opening, project.closing, *(b.text for q in project.sequences for b in q.bodies))
    call = re.compile(rf"\b{re.escape(name)}\s*\(([^;]*)\)\s*;", re.IGNORECASE)
    inputs = {w.lower() for text in texts for m in call.finditer(text) for w in re.findall(r"(\w+)\s*:=", m[1])}
    kind = next((k for a, b, k in _KIND_BY_INPUT if a in inputs and (not b or b in inputs)), "TON")
    return f"Declare {name} as {kind}", lambda p: replace(p, instances=(*p.instances, Instance(name, kind)))


def _settle(project: Project, d: Diagnostic) -> Remedy | None:
    """Takes theirs where two versions differ, if it can be taken; else mine stays and the finding goes."""
    found = next((c for c in project.conflicts if c.path.replace("/", ", ") == d.place.item), None)
    if found is None:
        return None
    if not found.value:
        return "Keep mine", lambda p: settled(p, found, False)
    return f"Take theirs: {found.theirs[:40]}", lambda p: settled(p, found, True)


def _no_words(project: Project, d: Diagnostic) -> Remedy | None:
    index = next((i for i, a in enumerate(project.alarms) if a.on == d.place.item), -1)
    return None if index < 0 else ("Take its words out", lambda p: remove_item(p, "alarms", index))


def _give_end(project: Project, d: Diagnostic) -> Remedy | None:
    try:
        with_end(project, d.place.item)
    except EditError:
        return None
    return f"Let {d.place.item} end in a step of its own", lambda p: with_end(p, d.place.item)


def _let_end_open(project: Project, d: Diagnostic) -> Remedy | None:
    """The first way out awaits the end too."""
    q = _named_sequence(project, d)
    first = next((i for i, _ in q.leaving(d.place.item)), None) if q is not None else None
    step = None if q is None else q.step(d.place.item)
    ran = (
        next((project.sequence(a.target) for a in step.actions if a.qualifier.runs), None) if step is not None else None
    )
    if q is None or first is None or ran is None or not ends_of(ran):
        return None
    ends, old = end_of(ran), q.transitions[first].condition.strip()
    text = f"({old}) AND ({ends})" if " OR " in ends else f"({old}) AND {ends}"
    return f"Write {text}", lambda p: change_transition(p, q.name, first, condition=text)


REMEDIES: dict[str, Callable[[Project, Diagnostic], Remedy | None]] = {
    "read-nowhere": _delete_signal, "written-nowhere": _delete_signal, "stop-normally-open": _normally_closed,
    "branches-overlap": _priorities, "priorities-mixed": _priorities, "reset-never-stored": _away, "stored-never-reset": _reset_at_start,
    "window-reversed": _exchange_window, "level-for-edge": _in_condition(_rising, "Write {text}"),
    "equal-overshoots": _in_condition(_at_least, "Write {text}"), "no-longest": _longest, "step-unreachable": _delete_step,
    "trip-no-scope": _whole_scope, "text": _declare, "wires-exchanged": _exchange_wires, "waiver-stale": _no_stale_waiver,
    "merge-conflict": _settle, "alarm-of-nothing": _no_words, "run-no-end": _give_end, "run-not-awaited": _let_end_open,
}  # fmt: skip
