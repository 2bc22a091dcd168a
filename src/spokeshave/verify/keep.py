"""What was done on the bench, as a scenario: the deeds as rows, the situations they met as expectations."""

from __future__ import annotations

from collections.abc import Container

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language.literals import value_text
from spokeshave.machine.belt import TAKING
from spokeshave.model.alarms import phrase_of
from spokeshave.model.edits import add_item, free_name
from spokeshave.model.project import Project, Scenario


def kept_rows(session: Session) -> list[str]:
    """The rows for everything done in a run so far, in the order of time, and for what came of it."""
    rows: list[str] = []
    project, period = session.program.project, session.program.period_ms
    done = [st for st, _ in session.log[: session.next_stimulus]]
    used: set[int] = set()
    for i, st in enumerate(done):
        if i in used:
            continue
        text = ""
        if st.do == "hand":
            later = next((j for j in range(i + 1, len(done)) if _same_hand(done[j], st)), -1)
            text, takes = hand_row(project, st, done[later] if later >= 0 else None)
            used |= {later} if takes else set()
        elif st.do == "set" and "." in st.target and "[" not in st.target:
            rows.append(f"// at {shown_time(st.time_ms)} {st.target} was set by hand: no row says that")
        else:
            text = deed_row(project, st)
        if text:
            rows.append(f"at {shown_time(st.time_ms)}: {text}")
    moments = sorted({st.time_ms // period - 1 for st in done if st.time_ms >= period} | {session.k - 1})
    rows.append(f"run for {shown_time(session.time_ms)}")
    for k in moments:
        where = situation_at(session, k)
        if where:
            rows.append(f"expect at {shown_time(k * period)}: {where}")
    return [*rows, *order_rows(session), *alarm_rows(session)]


def order_rows(session: Session, without: Container[str] = ()) -> list[str]:
    """What is expected of the order of the steps, for each sequence that has gone on."""
    orders = ((name, steps) for name, steps in orders_of(session) if len(steps) > 1 and name not in without)
    return [f"expect order {name}: {', '.join(steps)}" for name, steps in orders]


def alarm_rows(session: Session) -> list[str]:
    """What is expected of alarms and hazards: those that were raised, or none."""
    events = session.trace.events
    alarms = dict.fromkeys(phrase_of(e.ident) for e in events if e.kind == "alarm")
    rows = [f'expect alarm "{text}"' for text in alarms] or ["expect no alarms"]
    return rows if any(e.kind == "hazard" for e in events) else [*rows, "expect no hazards"]


def keep(project: Project, session: Session, name: str = "Kept from the bench") -> Project:
    """The machine file with the scenario behind its others."""
    name = free_name(name, {s.name.lower() for s in project.scenarios})
    return add_item(project, "scenarios", Scenario(name, "\n".join(kept_rows(session))))


def _same_hand(st: Stimulus, first: Stimulus) -> bool:
    return st.do == "hand" and st.target.lower() == first.target.lower()


def hand_row(project: Project, st: Stimulus, later: Stimulus | None) -> tuple[str, bool]:
    """The row for a hand on a device, and whether it tells the next one on the same device too."""
    device = project.device(st.target)
    if device is None:
        return "", False
    if device.kind in ("selector", "setpoint"):
        return f"turn {device.name} to {st.value:g}", False
    if device.kind == "belt" and st.value == TAKING:
        return f"take from {device.name}", later is not None and not later.value
    if st.value and later is not None and not later.value and later.time_ms > st.time_ms:
        return f"press {device.name} for {shown_time(later.time_ms - st.time_ms)}", True
    return f"{'hold' if st.value else 'release'} {device.name}", False


def deed_row(project: Project, st: Stimulus) -> str:
    """The row for anything else that is done; empty for what no row says."""
    signal = project.signal(st.target)
    value = value_text(st.value, signal.type) if signal is not None and st.value is not None else ""
    return {
        "set": f"set {st.target} to {value}", "force": f"force {st.target} to {value}", "unforce": f"unforce {st.target}",
        "fail": f'break {st.target} "{st.value}"', "heal": f'mend {st.target} "{st.value}"', "power": "power cycle",
        "ack": "acknowledge", "drive": f"hand drive {'on' if st.value else 'off'}",
        "ask": f"ask {st.target} to {'TRUE' if st.value else 'FALSE'}",
    }.get(st.do, "")  # fmt: skip


def situation_at(session: Session, k: int, without: Container[str] = ()) -> str:
    """Which steps were active at the end of scan `k`."""
    steps = [r.name for r in session.trace.recorded if r.kind == "step" and session.trace.at(r.name, k)]
    return " AND ".join(s for s in steps if s.partition(".")[0] not in without)


def orders_of(session: Session) -> list[tuple[str, list[str]]]:
    """The steps of each sequence in the order in which they were entered."""
    out = []
    for q in session.program.sequences:
        entries = sorted(
            (a, s.number, s.name) for s in q.steps for a, _ in session.trace.windows(f"{q.name}.{s.name}.X")
        )
        out.append((q.name, [name for _, _, name in entries]))
    return out


def shown_time(ms: int) -> str:
    """A time as a row of a scenario says it."""
    return f"{ms / 1000:.3f}".rstrip("0").rstrip(".") + " s" if ms % 10 == 0 or ms >= 100_000 else f"{ms} ms"
