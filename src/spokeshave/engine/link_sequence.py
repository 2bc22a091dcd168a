"""Links sequences: steps, transitions, action blocks and their targets."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from spokeshave.engine import program as pg
from spokeshave.engine.checked_texts import Texts
from spokeshave.engine.names import TextScope
from spokeshave.language import checked as ck
from spokeshave.language.compile import Choice, Compiled
from spokeshave.model.diagnostics import Place, did_you_mean
from spokeshave.model.project import Action, Sequence, SignalClass, Step, Transition, Type
from spokeshave.model.qualifiers import When


def transition_place(sequence: Sequence, index: int, numbers: Mapping[str, int] | None = None) -> Place:
    """Where a transition is, in words: `20 to 30` by numbers, which may be given where many places are asked for."""
    t = sequence.transitions[index]
    if numbers is None:
        found = {n: sequence.step(n) for n in (*t.sources, *t.targets)}
        numbers = {n: s.number for n, s in found.items() if s is not None}
    ends = ["+".join(str(numbers.get(n, n)) for n in names) for names in (t.sources, t.targets)]
    return Place("transition", sequence.name, " to ".join(ends), index)


def step_numbers(sequence: Sequence) -> dict[str, int]:
    """Numbers of steps by their names as they are written."""
    return {s.name: s.number for s in sequence.steps}


class SequenceLinker:
    """Links all sequences of a project; `targets` are what their action blocks act on, in order of meeting."""

    def __init__(self, texts: Texts) -> None:
        self.texts = texts
        self.targets: list[tuple[str, int, int]] = []
        """(name, slot or -1, unit of the body or -1)."""
        self._by_name: dict[tuple[int, str], int] = {}
        self._order = 0
        self.chosen: set[int] = set()
        """Units of conditions that are asked together with the others of their step, and by themselves hardly ever."""

    def read(self, index: int, q: Sequence) -> dict[str, Any]:
        scope = TextScope(self.texts.table, q, self.texts.acted)
        bodies: dict[str, int] = {}
        for body in q.bodies:
            place = Place("body", q.name, body.name)
            if self.texts.project.signal(body.name) is not None:
                self.texts.note("name-clash", place, f"{body.name} is a signal too", "rename the body")
            if body.name.lower() in bodies:
                self.texts.note("name-twice", place, f"{q.name} has two bodies {body.name}")
            tree = self.texts.check(body.text, place, scope, "statements")
            bodies[body.name.lower()] = -1 if tree is None else self.texts.unit(tree, place)
        number = {s.name: i for i, s in enumerate(q.steps)}
        order = sorted(
            range(len(q.transitions)),
            key=lambda i: (q.transitions[i].priority is None, q.transitions[i].priority or 0, i),
        )
        rank = {t: n for n, t in enumerate(order)}
        permissives = {}
        for s in q.steps:
            if s.permissive.strip():
                done = self.texts.condition(s.permissive, Place("step", q.name, s.name), scope)
                if done is not None:
                    permissives[s.name] = (*done, s.permissive)
        numbers = step_numbers(q)
        ways = [self._way(q, i, t, scope, number, rank[i], permissives, numbers) for i, t in enumerate(q.transitions)]
        leaving: dict[int, list[dict[str, Any]]] = {i: [] for i in range(len(q.steps))}
        for w in ways:
            for i in w["sources"] if w else ():
                leaving[i].append(w)  # type: ignore[arg-type]
        choices = {i: self._choice(mine) for i, mine in leaving.items()}
        in_order = sorted(range(len(q.steps)), key=lambda i: q.steps[i].number)
        blocks = {i: self._blocks(index, q, q.steps[i], scope, bodies) for i in in_order}
        steps = [self._step(q, i, s, scope) for i, s in enumerate(q.steps)]
        hold = self.texts.condition(q.hold_when, Place("sequence", item=q.name), scope) if q.hold_when.strip() else None
        restart = self.texts.rising(q.restart_when, Place("sequence", item=q.name), scope)
        return {"index": index, "q": q, "ways": ways, "blocks": blocks, "steps": steps, "hold": hold,
                "restart": restart, "choices": choices}  # fmt: skip

    def _way(
        self, q: Sequence, index: int, t: Transition, scope: TextScope, number: dict[str, int], order: int,
        permissives: dict[str, tuple[int, ck.Checked, str]], numbers: dict[str, int],
    ) -> dict[str, Any] | None:  # fmt: skip
        place = transition_place(q, index, numbers)
        done = self.texts.condition(t.condition, place, scope)
        if done is None:
            return None
        return {
            "index": index,
            "order": order,
            "sources": tuple(number[s] for s in t.sources),
            "targets": tuple(number[s] for s in t.targets),
            "unit": done[0],
            "checked": done[1],
            "text": t.condition,
            "permissives": [permissives[n] for n in t.targets if n in permissives],
            "place": place,
        }

    def _choice(self, ways: list[dict[str, Any]]) -> int | None:
        """The unit that chooses among the ways out of a step, if it is the only predecessor of each."""
        if any(len(w["sources"]) > 1 for w in ways):
            return None
        units = self.texts.units

        def part(unit: int) -> tuple[int, ck.Checked]:
            place, tree = units[unit]
            assert not isinstance(tree, (tuple, Choice))
            return place, tree

        arms = tuple(
            tuple(map(part, (w["unit"], *(u for u, _, _ in w["permissives"]))))
            for w in sorted(ways, key=lambda w: int(w["order"]))
        )
        units.append((-1, Choice(arms)))
        self.chosen.update(w["unit"] for w in ways)
        return len(units) - 1

    def _blocks(
        self, index: int, q: Sequence, step: Step, scope: TextScope, bodies: dict[str, int]
    ) -> tuple[pg.Block, ...]:
        out = []
        for position, action in enumerate(step.actions):
            target = self._target(index, q, step, action, bodies)
            place = Place("action", q.name, f"{step.name} {action.target}")
            time = self.texts.time(action.time, place, scope)
            if action.qualifier.timed and time is None and not action.time.strip():
                self.texts.note(
                    "action-time", place, f"{action.qualifier} needs a time", f"for example {action.qualifier} T#2s"
                )
            if target is not None:
                time = time or pg.Time(0)
                out.append(pg.Block(self._order, action.qualifier.rule, target, time, index, step.number, position))
                self._order += 1
        return tuple(out)

    def _target(self, index: int, q: Sequence, step: Step, action: Action, bodies: dict[str, int]) -> int | None:
        place = Place("action", q.name, f"{step.name} {action.target}")
        name = action.target.lower()
        signal = self.texts.project.signal(name)
        if signal is None and name not in bodies:
            known = [s.name for s in self.texts.project.signals] + [b.name for b in q.bodies]
            self.texts.note(
                "action-target", place, f"there is no signal or body {action.target}", did_you_mean(name, known)
            )
            return None
        if signal is not None:
            if signal.cls not in (SignalClass.OUTPUT, SignalClass.INTERNAL):
                message = f"{signal.name} is of class {signal.cls}"
                self.texts.note("action-target", place, message, "an action block acts on outputs and internals")
                return None
            if signal.type is not Type.BOOL:
                self.texts.note(
                    "action-target", place, f"{signal.name} is {signal.type}", "an action block acts on a BOOL"
                )
                return None
        key = (-1, name) if signal is not None else (index, name)
        if key not in self._by_name:
            self._by_name[key] = len(self.targets)
            if signal is not None:
                self.targets.append((signal.name, self.texts.table.read[name], -1))
            else:
                self.targets.append((action.target, -1, bodies[name]))
        return self._by_name[key]

    def _step(self, q: Sequence, index: int, s: Step, scope: TextScope) -> dict[str, Any]:
        place = Place("step", q.name, s.name)
        trip = -1
        if s.response not in ("", "alarm", "hold"):
            names = [t.name.lower() for t in self.texts.project.trips]
            if s.response.lower() in names:
                trip = names.index(s.response.lower())
            else:
                self.texts.note(
                    "response", place, f"there is no trip {s.response}", "alarm, hold or the name of a trip"
                )
        return {
            "s": s,
            "index": index,
            "longest": self.texts.time(s.longest, place, scope),
            "shortest": self.texts.time(s.shortest, place, scope),
            "trip": trip,
            "place": place,
        }

    def finish(self, d: dict[str, Any], code: list[Compiled]) -> pg.LinkedSequence:
        q: Sequence = d["q"]
        ways = [
            pg.Way(
                w["index"], w["order"], w["sources"], w["targets"], code[w["unit"]], w["checked"], w["text"],
                tuple((code[u], tree, text) for u, tree, text in w["permissives"]), w["place"],
            )
            for w in d["ways"]
        ]  # fmt: skip
        leaving: dict[int, list[pg.Way]] = {i: [] for i in range(len(q.steps))}
        for way in ways:
            for i in way.sources:
                leaving[i].append(way)
        steps = []
        for part in d["steps"]:
            s: Step = part["s"]
            key = (q.name.lower(), s.name.lower())
            blocks, choice = d["blocks"][part["index"]], d["choices"][part["index"]]
            steps.append(
                pg.LinkedStep(
                    s.name,
                    s.number,
                    part["index"],
                    self.texts.table.member[(*key, "x")],
                    self.texts.table.member[(*key, "t")],
                    self.texts.table.member[(*key, "late")],
                    blocks,
                    tuple(b for b in blocks if b.rule.steady),
                    frozenset(b.target for b in blocks if b.rule.steady),
                    tuple(b for b in blocks if not b.rule.steady and b.rule.when is not When.LEFT),
                    tuple(b for b in blocks if b.rule.when is When.LEFT),
                    tuple(sorted(leaving[part["index"]], key=lambda w: w.order)),
                    frozenset(
                        load.slot
                        for w in leaving[part["index"]]
                        for tree in (w.checked, *(tree for _, tree, _ in w.permissives))
                        for load in ck.loads(tree)
                    ),
                    None if choice is None else code[choice],
                    part["longest"],
                    part["shortest"],
                    s.response,
                    part["trip"],
                    part["place"],
                )
            )
        first = q.step(q.initial)
        assert first is not None
        hold = d["hold"]
        return pg.LinkedSequence(
            q.name,
            d["index"],
            tuple(steps),
            q.steps.index(first),
            self.texts.table.member[(q.name.lower(), "", "state")],
            code[hold[0]] if hold else None,
            q.hold_outputs == "drop",
            d["restart"],
            q.retain,
        )
