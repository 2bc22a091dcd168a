"""The same machine as a C program that scans every period, compiled with gcc: a speed limit to compare with.

The text is written from the linked program, for what the measured machine uses: step times in conditions, actions N,
S, R, D, time windows, interlocks, slides, vessels and thermal masses. Anything else raises `NotImplementedError`.
"""

from __future__ import annotations

import subprocess
from dataclasses import dataclass
from pathlib import Path

from spokeshave.engine.link import link
from spokeshave.engine.program import LinkedDevice, LinkedSequence, Program
from spokeshave.language import checked as ck
from spokeshave.machine.actuator import Actuator
from spokeshave.machine.thermal import ThermalMass
from spokeshave.machine.vessel import Vessel
from spokeshave.model.project import Project, Qualifier, Type

COMPARE = {"eq": "==", "ne": "!=", "lt": "<", "gt": ">", "le": "<=", "ge": ">="}
MOST_CHANGES = 4_000_000

HEAD = """\
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
typedef long long whole;
static whole k;
static whole *change_scan; static int *change_column; static double *change_value; static long changes;
static long events;
static inline void change(int column, double value) {
  change_scan[changes] = k; change_column[changes] = column; change_value[changes] = value; changes++;
}
static inline whole clamp(whole p, whole most) { return p < 0 ? 0 : p > most ? most : p; }
static inline whole down(whole a, whole b) { whole q = a / b; return a % b < 0 ? q - 1 : q; }
"""


@dataclass(frozen=True)
class Ran:
    """What the C program told: how long its scans took, its changes as (scan, column, value), its events' number."""

    seconds: float
    changes: list[tuple[int, int, float]]
    events: int


def expression(node: ck.Checked) -> str:
    match node:
        case ck.Const():
            return str(int(node.value)) if node.type is not Type.REAL else repr(float(node.value))
        case ck.Load():
            return f"v{node.slot}"
        case ck.Apply(op="and" | "or" as op):
            return f"({expression(node.args[0])} {'&' if op == 'and' else '|'} {expression(node.args[1])})"
        case ck.Apply(op="not"):
            return f"(!{expression(node.args[0])})"
        case ck.Apply(op=op) if op in COMPARE:
            return f"({expression(node.args[0])} {COMPARE[op]} {expression(node.args[1])})"
    raise NotImplementedError(str(node))


def c_text(project: Project) -> str:
    p = link(project)
    if len(p.sequences) != 1 or p.opening or p.closing or p.edges or p.trips or p.pairs:
        raise NotImplementedError("one sequence with devices and interlocks")
    seq = p.sequences[0]
    reals = {r.slot for r in p.recorded if r.type is Type.REAL}
    out = [HEAD]
    for slot in range(4, len(p.start)):
        value = p.start[slot]
        kind = "double" if slot in reals else "whole" if type(value) is int else "unsigned char"
        out.append(f"static {kind} v{slot} = {float(value) if slot in reals else int(value)};")
    for r in p.recorded:
        out.append(f"static {'double' if r.slot in reals else 'unsigned char'} last{r.slot};")
    for i, d in enumerate(p.devices):
        out += device(i, d)
    for s in seq.steps:
        out.append(f"static whole entered{s.index};")
        out += [f"static unsigned char stored{b.order};" for b in s.blocks if b.rule.stored]
    out += ["static void scan(void) {", *(f"  sense{i}();" for i in range(len(p.devices)))]
    out += evolution(p, seq) + actions(p, seq) + outputs(p) + record(p)
    out += [f"  move{i}();" for i in range(len(p.devices))] + ["}"]
    return "\n".join(out) + main(p)


def evolution(p: Program, seq: LinkedSequence) -> list[str]:
    out = [f"  if (v{s.x}) v{s.t} = (k - entered{s.index}) * {p.period_ms};" for s in seq.steps]
    out += [f"  unsigned char in{s.index} = k == 0 && v{s.x};" for s in seq.steps]
    ways = sorted({w.order: w for s in seq.steps for w in s.ways}.values(), key=lambda w: w.order)
    out.append("  if (k > 0) {")
    for w in ways:
        flags = " & ".join(f"v{seq.steps[a].x}" for a in w.sources)
        out.append(f"  unsigned char go{w.order} = ({flags}) && {expression(w.checked)};")
        rivals = [o for o in ways if o.order < w.order and set(o.sources) & set(w.sources)]
        out += [f"  go{w.order} &= !go{o.order};" for o in rivals]
    for w in ways:
        out.append(f"  if (go{w.order}) {{")
        for a in w.sources:
            s = seq.steps[a]
            if s.shortest is not None:
                out.append(f"    if (v{s.t} < {s.shortest.fixed}) events++;")
            out.append(f"    v{s.x} = 0; v{s.late} = 0;")
        out.append("  }")
    for w in ways:
        entries = "".join(
            f" v{seq.steps[a].x} = 1; v{seq.steps[a].t} = 0; entered{a} = k; in{a} = 1;" for a in w.targets
        )
        out.append(f"  if (go{w.order}) {{{entries} }}")
    out.append("  }")
    for s in seq.steps:
        if s.longest is not None:
            test = f"v{s.x} && !v{s.late} && v{s.t} >= {s.longest.fixed}"
            out.append(f"  if ({test}) {{ v{s.late} = 1; events += 2; }}")
    return out


def actions(p: Program, seq: LinkedSequence) -> list[str]:
    out = []
    parts: list[list[str]] = [[] for _ in p.targets]
    resets: list[list[str]] = [[] for _ in p.targets]
    for s in seq.steps:
        for b in s.blocks:
            if b.rule == Qualifier.N.rule:
                parts[b.target].append(f"v{s.x}")
            elif b.rule == Qualifier.D.rule:
                parts[b.target].append(f"(v{s.x} && v{s.t} >= {b.time.fixed})")
            elif b.rule == Qualifier.S.rule:
                out.append(f"  if (in{s.index}) stored{b.order} = 1;")
                parts[b.target].append(f"stored{b.order}")
            elif b.rule == Qualifier.R.rule:
                resets[b.target].append(f"v{s.x}")
            else:
                raise NotImplementedError(b.rule)
    for i, reset in enumerate(resets):
        if reset:
            stored = [name for name in parts[i] if name.startswith("stored")]
            out.append(f"  if ({' | '.join(reset)}) {{ {' '.join(f'{n} = 0;' for n in stored)} }}")
            parts[i] = [f"(!({' | '.join(reset)}) && ({' | '.join(parts[i]) or '0'}))"]
        out.append(f"  v{p.targets[i].slot} = {' | '.join(parts[i]) or '0'};")
    return out


def outputs(p: Program) -> list[str]:
    out = [f"  v{final} = v{asked};" for final, asked in p.asked.items() if final != asked]
    for lock in p.interlocks:
        blocked = (
            f"static unsigned char blocked{lock.asked}; if (!blocked{lock.asked}) events++; blocked{lock.asked} = 1;"
        )
        test = f"if (!v{lock.asked}) blocked{lock.asked} = 0; else if ({expression(lock.checked)}) blocked{lock.asked} = 0;"
        out.append(f"  {{ {blocked.split(';')[0]}; {test} else {{ v{lock.final} = 0;{blocked.split(';', 1)[1]} }} }}")
    return out


def record(p: Program) -> list[str]:
    return [
        f"  if (v{r.slot} != last{r.slot} || k == 0) {{ last{r.slot} = v{r.slot}; change({c}, v{r.slot}); }}"
        for c, r in enumerate(p.recorded)
    ]


def device(i: int, d: LinkedDevice) -> list[str]:
    """What a device is made of, what it senses, how it moves on."""
    drives = [f"v{s}" if s > 1 else "0" for s in d.drives]
    turned = " || ".join(f"{a} != was{i}_{n}" for n, a in enumerate(drives))
    keep = " ".join(f"was{i}_{n} = {a};" for n, a in enumerate(drives))
    was = "static unsigned char " + ", ".join(f"was{i}_{n}" for n in range(len(drives))) + ";"
    slot = dict(d.sensors)
    dev = d.device
    if isinstance(dev, Actuator):
        place = f"clamp(p{i} + (k - k{i}) * s{i}, {dev.stroke}LL)"
        sensors: tuple[tuple[int, str], ...] = ((0, f"p >= {dev.stroke}LL"), (1, "p <= 0"))
        start = f"static whole k{i}, p{i} = {dev.start()[1]}, s{i} = {dev.start()[2]};"
        sense = f"whole p = {place};"
        turn = f"p{i} = {place}; s{i} = {drives[0]} ? {dev.away} : {-dev.back};"
    elif isinstance(dev, Vessel):
        place = f"clamp(p{i} + (k - k{i}) * s{i}, {dev.full}LL)"
        low, high = (f"{border}LL - {dev.slack}LL * {n}{i}" for n, border in zip(("low", "high"), dev.borders[::2]))
        sensors = ((0, f"(double)(p / {dev.grain}LL * {dev.grain}LL) / 1e6"), (1, f"p >= {low}"), (3, f"p >= {high}"))
        begin = dev.start()
        start = f"static whole k{i}, p{i} = {begin[1]}, s{i}; static whole low{i} = {int(begin[3][0])}, high{i} = {int(begin[3][2])};"
        sense = f"whole p = {place};"
        flow = " ".join(f"{'+-'[n > 2]} {a} * {dev.rates[n]}LL" for n, a in enumerate(drives[:6]))
        turn = f"whole p = {place}; p{i} = p; low{i} = p >= {low}; high{i} = p >= {high}; s{i} = 0 {flow};"
    elif isinstance(dev, ThermalMass):
        place = f"(t{i} + (whole)floor((double)(p{i} - t{i}) * exp((double)-(k - k{i}) * {dev.decays[1]!r}) + 0.5))"
        n = dev.steps_per_k
        sensors = (
            (0, f"(double)down(2 * p * {n} + 1000000, 2000000) / {n}"),
            (1, f"p < {dev.value['high_c'] * 1e6!r}"),
        )
        begin = dev.start()
        start = f"static whole k{i}, p{i} = {begin[1]}, t{i} = {begin[2]};"
        sense = f"whole p = {place};"
        ambient, gain = (round(dev.value[x] * 1e6) for x in ("ambient_c", "heater_k"))
        turn = f"p{i} = {place}; t{i} = {ambient}LL + {drives[0]} * {gain}LL;"
    else:
        raise NotImplementedError(d.device.kind)
    values = " ".join(f"v{slot[n]} = {text};" for n, text in sensors if n in slot)
    return [
        start, was,
        f"static inline void sense{i}(void) {{ {sense} {values} }}",
        f"static inline void move{i}(void) {{ if ({turned}) {{ {turn} k{i} = k; {keep} }} }}",
    ]  # fmt: skip


def main(p: Program) -> str:
    first = p.sequences[0].steps[p.sequences[0].initial]
    return f"""
int main(int count, char **words) {{
  whole scans = atoll(words[1]);
  change_scan = malloc({MOST_CHANGES} * sizeof(whole)); change_column = malloc({MOST_CHANGES} * sizeof(int));
  change_value = malloc({MOST_CHANGES} * sizeof(double));
  struct timespec a, b;
  v{first.x} = 1;
  clock_gettime(CLOCK_MONOTONIC, &a);
  for (k = 0; k < scans; k++) scan();
  clock_gettime(CLOCK_MONOTONIC, &b);
  printf("%.9f %ld %ld\\n", (b.tv_sec - a.tv_sec) + 1e-9 * (b.tv_nsec - a.tv_nsec), changes, events);
  for (long i = 0; i < changes; i++) printf("%lld %d %.17g\\n", change_scan[i], change_column[i], change_value[i]);
  return 0;
}}
"""


def build(project: Project, folder: Path, optimise: str = "-O2") -> Path:
    """Writes and compiles the program, as fast as gcc makes it unless `optimise` says otherwise. Raises `CalledProcessError`
    with gcc's words.
    """
    source, target = folder / "machine.c", folder / "machine"
    source.write_text(c_text(project))
    words = ["gcc", optimise, "-ffp-contract=off", "-o", str(target), str(source), "-lm"]
    subprocess.run(words, check=True, capture_output=True)
    return target


def run(program: Path, scans: int) -> Ran:
    said = subprocess.run([str(program), str(scans)], check=True, capture_output=True, text=True).stdout.splitlines()
    seconds, _, events = said[0].split()
    rows = (line.split() for line in said[1:])
    return Ran(float(seconds), [(int(k), int(c), float(v)) for k, c, v in rows], int(events))
