"""How fast a reachability study is.

    .venv/bin/python -m benchmarks.reach

1. About 10,000 situations of one machine, by outcomes of guards and by every value of every input: seconds, and the ratio.
2. A million situations of sequences side by side, by a study and by a C program that keeps them in a hash table and tries
   the same inputs: seconds, and memory.

3. Sequences that all stop for one input, explored together, and as many as are answered one by one: seconds.

Exit 1 if a promise is not kept: 30 times faster than by inputs; no slower than C, in less than 500 MB.
"""

from __future__ import annotations

import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from spokeshave.model.project import Action, Project, Qualifier, Sequence, Signal, SignalClass, Step, Transition, Type
from spokeshave.verify.reach.answers import study
from spokeshave.verify.reach.explore import Explorer
from spokeshave.verify.reach.outcomes import Guard, Outcomes, Plan
from spokeshave.verify.reach.studied import Studied
from spokeshave.verify.reach.ways import patterns

IN, OUT, VAR = SignalClass.INPUT, SignalClass.OUTPUT, SignalClass.INTERNAL
ROUND = 10
"""Steps of a sequence of the second machine."""

BESIDE = 6
"""Sequences side by side: ROUND ** BESIDE situations."""


def carousel() -> Project:
    """Three arms that wait for each other and count what they set down: about 10,000 situations, 13 inputs."""
    inputs = [f"At{arm}{place}" for arm in "ABC" for place in range(3)] + ["Go", "ClearA", "ClearB", "ClearC"]
    signals = [Signal(n, IN) for n in inputs] + [Signal(f"Set{arm}", OUT) for arm in "ABC"]
    signals += [Signal("Down", VAR, Type.INT)]
    made = []
    for n, arm in enumerate("ABC"):
        other = "ABC"[n - 1]
        steps = tuple(
            Step(
                f"{arm}{i}", 10 * i + 10, (Action(Qualifier.N, f"Set{arm}"),) if i % 2 else (), "T#30s", response="hold"
            )
            for i in range(8)
        )
        ways = [
            Transition(
                (f"{arm}{i}",),
                (f"{arm}{(i + 1) % 8}",),
                f"At{arm}{i % 3}"
                + (f" AND Clear{arm}" if i == 5 else "" if i % 3 else f" AND NOT {other}.{other}{i}.X"),
            )
            for i in range(8)
        ]
        made.append(Sequence(arm, f"{arm}0", steps, tuple(ways)))
    behind = made[0].transitions[1:]
    made[0] = Sequence("A", "A0", made[0].steps, (Transition(("A0",), ("A1",), "AtA0 AND Go"), *behind))
    return Project("Carousel arms", 10, signals=tuple(signals), sequences=tuple(made), reset="Go",
                   closing="IF A.A7.X AND B.B7.X THEN Down := LIMIT(0, Down + 1, 3); ELSIF C.C7.X THEN Down := 0; END_IF;")  # fmt: skip


class ByInputs(Outcomes):
    """As if every value of every input made a difference."""

    def plan(self, active: set[tuple[int, int]], standing: bool) -> Plan:
        return Plan(None, tuple(self._try(c) for c in self.clusters(self.guards(active, standing), active)))

    def guards(self, active: set[tuple[int, int]], standing: bool) -> list[Guard]:
        found = super().guards(active, standing)
        slots = sorted(self.studied.inputs)
        return [*found, Guard(lambda env: [env[s] for s in slots], frozenset(slots))]


def by_inputs(project: Project, sample: int) -> tuple[float, int]:
    """Seconds a situation, measured on some of them, and how many ways to go on each of these has."""
    studied = Studied(project)
    explorer = Explorer(studied)
    found = explorer.run()
    explorer.outcomes = ByInputs(studied, explorer.outcomes.cells)
    columns = explorer.layout.unpack(found.situations)
    begin, done, tried = time.perf_counter(), 0, explorer.scans
    for members, _, _ in patterns(explorer.outcomes, columns, len(found.situations)):
        rows = members[: max(1, len(members) * sample // len(found.situations))]
        explorer.go_on(found.situations[rows])
        done += len(rows)
        if done >= sample:
            break
    return (time.perf_counter() - begin) / done, (explorer.scans - tried) // done


def beside(many: int = BESIDE, stop: str = "") -> Project:
    """Sequences that go round when their two inputs say so; all of them stop for the input `stop`, if there is one."""
    signals, made = [Signal(stop, IN)] if stop else [], []
    tail = f" AND NOT {stop}" if stop else ""
    for n in range(many):
        signals += [Signal(f"On{n}", IN), Signal(f"Back{n}", IN)]
        steps = tuple(Step(f"S{i}", 10 * i + 10) for i in range(ROUND))
        ways = [Transition((f"S{i}",), (f"S{(i + 1) % ROUND}",), f"On{n} AND NOT Back{n}{tail}") for i in range(ROUND)]
        ways += [Transition((f"S{i}",), (f"S{i - 1}",), f"Back{n}{tail}") for i in range(1, ROUND)]
        made.append(Sequence(f"Q{n}", "S0", steps, tuple(ways)))
    return Project("Beside", 10, signals=tuple(signals), sequences=tuple(made))


C_TEXT = """
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
typedef unsigned long long word;
static word *table; static word size = 1 << 22, count = 0;
static int put(word x) {
  word at = (x * 0x9E3779B97F4A7C15ULL) >> 42;
  while (table[at]) { if (table[at] == x + 1) return 0; at = (at + 1) & (size - 1); }
  table[at] = x + 1; count++; return 1;
}
int main(void) {
  struct timespec a, b; clock_gettime(CLOCK_MONOTONIC, &a);
  table = calloc(size, sizeof(word));
  word *queue = malloc(sizeof(word) * 4000000ULL); word head = 0, tail = 0;
  put(0); queue[tail++] = 0;
  while (head < tail) {
    word now = queue[head++];
    int at[BESIDE]; word x = now;
    for (int i = 0; i < BESIDE; i++) { at[i] = x % ROUND; x /= ROUND; }
    for (word choice = 0; choice < POWER; choice++) {
      word c = choice, next = 0, weight = 1;
      for (int i = 0; i < BESIDE; i++) {
        int way = c % 3; c /= 3;
        int to = way == 0 ? at[i] : way == 1 ? (at[i] + 1) % ROUND : at[i] ? at[i] - 1 : 0;
        next += weight * to; weight *= ROUND;
      }
      if (put(next)) queue[tail++] = next;
    }
  }
  clock_gettime(CLOCK_MONOTONIC, &b);
  printf("%llu %.6f\\n", count, (b.tv_sec - a.tv_sec) + (b.tv_nsec - a.tv_nsec) * 1e-9);
  return 0;
}
"""


def in_c() -> tuple[int, float]:
    """Situations and seconds of the C program; it tries the outcomes of guards too, not the values of inputs."""
    with tempfile.TemporaryDirectory() as folder:
        source, program = Path(folder) / "reach.c", Path(folder) / "reach"
        source.write_text(C_TEXT)
        options = [f"-DBESIDE={BESIDE}", f"-DROUND={ROUND}", f"-DPOWER={3**BESIDE}"]
        subprocess.run(["gcc", "-O2", *options, "-o", str(program), str(source)], check=True)
        said = subprocess.run([str(program)], check=True, capture_output=True, text=True).stdout.split()
        return int(said[0]), float(said[1])


def timed(work: Any) -> tuple[Any, float]:
    begin = time.perf_counter()
    found = work()
    return found, time.perf_counter() - begin


def main() -> int:
    found = Explorer(Studied(carousel())).run()
    each, ways = by_inputs(carousel(), 100)
    slow = each * len(found.situations)
    print(f"{len(found.situations):,} situations, {found.scans:,} ways to go on: {found.seconds:.2f} s; "
          f"by every input {ways:,} ways each: {slow:,.0f} s, {slow / found.seconds:.0f} times as long")  # fmt: skip
    result, took = timed(lambda: study(beside()))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"{result.situations:,} situations of {BESIDE} sequences side by side, with all answers: {took:.2f} s, {memory:.0f} MB"
    )
    for many in (3, 4):
        joined = Explorer(Studied(beside(many, "Halt"))).run()
        print(
            f"{len(joined.situations):,} situations of {many} sequences that stop for one input: {joined.seconds:.2f} s"
        )
    for many in (BESIDE, 40):
        apart, seconds = timed(lambda many=many: study(beside(many, "Halt")))
        print(f"all answers about {many} of them, {apart.situations:,} situations looked at: {seconds:.2f} s")
    if shutil.which("gcc") is None:
        print("gcc is needed to compare")
        return 2
    count, c_seconds = in_c()
    print(
        f"C with a hash table: {count:,} situations in {c_seconds:.2f} s; the study takes {took / c_seconds:.2f} of it"
    )
    kept = slow >= 30 * found.seconds and took <= c_seconds and memory < 500 and count == result.situations
    return int(not kept)


if __name__ == "__main__":
    sys.exit(main())
