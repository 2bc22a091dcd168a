"""Phase 7 as code: what the action blocks contribute, what is stored, what is reset, then bodies (semantics section 5)."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import groupby
from textwrap import dedent, indent

from spokeshave.formats.code.pieces import Code, Hole, Variables, all_of, any_of, together
from spokeshave.formats.code.protect import Protection
from spokeshave.formats.code.styles import Style
from spokeshave.model.project import Action, Body, Project, Sequence, Step
from spokeshave.model.qualifiers import By, When

_SIGN = {By.SINCE: ">=", By.BEFORE: "<"}


@dataclass
class Block:
    """An action block: `on` is the condition under which it contributes."""

    q: Sequence
    step: Step
    action: Action
    stored: str = ""
    since: str = ""
    spent: str = ""
    kept: str = ""
    on: str = "FALSE"


class Control:
    """All blocks of a project in the order in which bodies run: sequences as listed, step numbers, positions."""

    def __init__(self, project: Project, variables: Variables, style: Style, protection: Protection) -> None:
        self.project, self.style, self.protection, self.variables = project, style, protection, variables
        self.blocks = [
            self._block(q, s, a, i, variables)
            for q in project.sequences
            for s in sorted(q.steps, key=lambda s: s.number)
            for i, a in enumerate(s.actions)
            if self._acts(q, s, a)
        ]
        self.latches = self._latches()
        self.resets: dict[tuple[str, str], str] = {}
        for b in self.blocks:
            if b.action.qualifier.resets and self._target(b) not in {*self.resets, *self.latches} and self._is_reset(b):
                self.resets[self._target(b)] = variables.new(f"{b.action.target}_Reset")
        self.body_on = {
            self._target(b): variables.new(f"{b.action.target}_On") if style.titled else ""
            for b in self.blocks
            if self._body(b) is not None
        }
        self.body_done: dict[tuple[str, str], str] = {}
        for body, runs in groupby((b for b in self.blocks if self._body(b) is not None), key=self._target):
            list(runs)
            if body in self.body_done:
                self.body_done[body] = self.body_done[body] or variables.new(f"{body[1]}_Done")
            else:
                self.body_done[body] = ""

    def _acts(self, q: Sequence, s: Step, a: Action) -> bool:
        """Whether a block has lines: in the plain style one of a step that nothing leads to has none, unless its output would not be
        set at all.
        """
        if self.style.titled or self.style.active(q, s) != "FALSE":
            return True
        signal = self.project.signal(a.target)
        if signal is None or not signal.start:
            return False
        others = [
            (x, y) for x in self.project.sequences for y in x.steps if any(b.target == a.target for b in y.actions)
        ]
        return all(self.style.active(x, y) == "FALSE" for x, y in others)

    def _is_reset(self, b: Block) -> bool:
        """Whether there is something to reset: in the plain style nothing of a body that nothing else acts on."""
        others = (x for x in self.blocks if self._target(x) == self._target(b))
        return self.style.titled or not self._target(b)[0] or any(not x.action.qualifier.resets for x in others)

    def _block(self, q: Sequence, s: Step, a: Action, index: int, variables: Variables) -> Block:
        b = Block(q, s, a)
        rule = a.qualifier.rule
        name = f"{q.name}_{s.name}_{a.target}" + (f"_{index + 1}" if index else "")
        if rule.stored:
            b.stored = variables.new(f"{name}_Stored", retain=q.retain)
            self.protection.stored[q.name].append(b.stored)
            if rule.since_stored is not None:
                b.since = variables.new(f"{name}_For", "TIME", retain=q.retain)
                self.protection.clocks[q.name].append(b.since)
            if rule.once:
                b.spent = variables.new(f"{name}_Spent")
                self.style.kept[(q.name, s.name)].spent.append(b.spent)
        elif not rule.resets and q.name in self.protection.held and (self.style.titled or self._keeps_pulse(b)):
            b.kept = variables.new(f"{name}_Kept")
            if q.hold_outputs == "keep":
                self.protection.kept[q.name].append(b.kept)
        return b

    def _latches(self) -> dict[tuple[str, str], str]:
        """Variables that the plain style sets and resets themselves: nothing but untimed S and R of one sequence acts on them, and
        they are FALSE at first. What they are called in the logic, by target.
        """
        found: dict[tuple[str, str], str] = {}
        for target in dict.fromkeys(map(self._target, self.blocks)):
            mine = [b for b in self.blocks if self._target(b) == target]
            rules = [b.action.qualifier.rule for b in mine]
            signal = self.project.signal(target[1])
            latched = all(r.resets or (r.stored and r.when is When.ENTERED and not r.timed) for r in rules)
            alone = len({b.q.name for b in mine}) == 1 and signal is not None and not signal.start and not signal.retain
            zeroed = any(target[1].lower() == n.lower() for t in self.project.trips for n in t.zeroed)
            if latched and alone and not zeroed and not self.style.titled and not mine[0].q.retain:
                found[target] = self.style.words.logic(target[1])
                for b in mine:
                    if b.stored:
                        self._call_stored(b, found[target])
        return found

    def _call_stored(self, b: Block, name: str) -> None:
        """The output itself is what is stored."""
        self.variables.drop(b.stored)
        stored = self.protection.stored[b.q.name]
        stored[stored.index(b.stored)] = name
        b.stored = name

    def _keeps_pulse(self, b: Block) -> bool:
        """Whether a hold keeps a pulse: bodies rest in it."""
        return b.action.qualifier.rule.pulse and self.project.signal(b.action.target) is not None

    def _target(self, b: Block) -> tuple[str, str]:
        signal = self.project.signal(b.action.target)
        return ("", signal.name) if signal is not None else (b.q.name, b.action.target.lower())

    def _body(self, b: Block) -> Body | None:
        if self.project.signal(b.action.target) is not None:
            return None
        return next(x for x in b.q.bodies if x.name.lower() == b.action.target.lower())

    def write(self, code: Code) -> None:
        p = self.protection
        for name, keeps in p.keeps.items():
            code.line(f"{keeps} := {keeps} OR {p.run[name]};")
            code.line(f"{p.acts[name]} := {p.run[name]} OR {p.held[name]} AND {keeps};")
        for b in self.blocks:
            self._contribution(code, b)
        for target, reset in self.resets.items():
            parts = [
                self._held_too(b, self._x(b))
                for b in self.blocks
                if b.action.qualifier.resets and self._target(b) == target
            ]
            code.line(f"{reset} := {any_of(parts)};")
            code.when(reset, (f"{b.stored} := FALSE;" for b in self.blocks if b.stored and self._target(b) == target))
        for b in self.blocks:
            if b.action.qualifier.resets and self._target(b) in self.latches:
                code.when(self._held_too(b, self._x(b)), [f"{self.latches[self._target(b)]} := FALSE;"])
        for target in dict.fromkeys(map(self._target, self.blocks)):
            if target in self.latches:
                continue
            parts = [b.on for b in self.blocks if self._target(b) == target and not b.action.qualifier.resets]
            on = any_of(parts) if self.style.titled else together(parts)
            if target in self.resets:
                on = f"NOT {self.resets[target]} AND {f'({on})' if ' OR ' in on else on}"
            if target in self.body_on and not self.style.titled:
                self.body_on[target] = on  # asked where the body stands
                continue
            code.line(f"{self.body_on.get(target) or self.style.words.logic(target[1])} := {on};{self._said(target)}")
        self._run_bodies(code)

    def _said(self, target: tuple[str, str]) -> str:
        """The names of the steps of a mapping, as a comment, where it speaks of numbers alone."""
        mine = [b for b in self.blocks if self._target(b) == target]
        if self.style.titled or not all(b.action.qualifier.rule.steady for b in mine):
            return ""
        return f" (* {', '.join(dict.fromkeys(b.step.name for b in mine))} *)"

    def _x(self, b: Block) -> str:
        return self.style.active(b.q, b.step)

    def _held_too(self, b: Block, condition: str) -> str:
        """A condition that counts while its sequence runs, and while it is held if it keeps its outputs."""
        runs, p = self.protection.runs(b.q), self.protection
        if b.q.name not in p.held or b.q.hold_outputs == "drop":
            return all_of(runs, condition)
        if b.q.name in p.acts and not b.action.qualifier.resets:
            return f"{p.acts[b.q.name]} AND {condition}"
        return f"({runs} OR {p.held[b.q.name]}) AND {condition}"

    def _contribution(self, code: Code, b: Block) -> None:
        rule, x, own = b.action.qualifier.rule, self._x(b), self.style.kept[(b.q.name, b.step.name)]
        time, runs = b.action.time.strip(), self.protection.runs(b.q)
        now = {When.ENTERED: f"{x} AND {own.came}", When.ACTIVE: x, When.LEFT: own.left}[rule.when]
        if rule.in_step is not None:
            now += f" AND {own.time} {_SIGN[rule.in_step]} {time}"
        if rule.resets:
            return
        if not rule.stored:
            if not b.kept:
                keeps = b.q.name in self.protection.held and not rule.pulse
                b.on = self._held_too(b, now) if keeps else all_of(runs, now)
            else:
                code.when(runs, [f"{b.kept} := {now};"])
                b.on = self._held_too(b, b.kept)
            return
        store = f"{b.stored} := TRUE;" + (f" {b.since} := T#0s;" if b.since else "")
        if rule.once:
            again = f"IF NOT {b.stored} THEN {store} END_IF;" if b.since else store  # its time goes on
            code.when(all_of(runs, now, f"NOT {b.spent}"), [f"{b.spent} := TRUE;", again])
        else:
            latched = self._target(b) in self.latches
            code.when(all_of(runs, now) if latched else all_of(runs, now, f"NOT {b.stored}"), [store])
        b.on = b.stored
        if rule.since_stored is not None:
            b.on += f" AND {b.since} {_SIGN[rule.since_stored]} {time}"

    def _run_bodies(self, code: Code) -> None:
        """Each body once, at its first block that is on; blocks of one body in a row are one."""
        acting = [b for b in self.blocks if self._body(b) is not None and not b.action.qualifier.resets]
        code.lines(f"{done} := FALSE;" for done in self.body_done.values() if done)
        for target, group in groupby(acting, key=self._target):
            blocks = list(group)
            body, done = self._body(blocks[0]), self.body_done[target]
            assert body is not None
            test = self.body_on[target]
            if " OR " in test and (done or blocks[0].q.name in self.protection.held):
                test = f"({test})"
            if blocks[0].q.name in self.protection.held:
                test += f" AND NOT {self.protection.held[blocks[0].q.name]}"
            if done:
                test += f" AND NOT {done} AND ({any_of(b.on for b in blocks)})"
            statements = self.style.words.statements(body.text, blocks[0].q)
            if not self.style.titled and not done and "\n" not in statements.strip() and "//" not in statements:
                hole = Hole(("body", blocks[0].q.name, body.name), f" {statements.strip()}")
                code.line(f"IF {test} THEN (* {body.name} *)", hole, f" END_IF; (* end of {body.name} *)")
                continue
            code.line(f"IF {test} THEN (* {body.name} *)")
            if done:
                code.line(f"  {done} := TRUE;")
            if not self.style.titled:
                statements = indent(dedent(statements), "    ")
            code.hole(Hole(("body", blocks[0].q.name, body.name), statements))
            code.line(f"END_IF; (* end of {body.name} *)")
