"""Headings of tables, in English and German: which row they stand in, and what each column is."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from spokeshave.formats.tables.grid import Sheet

STEP_WORDS: dict[str, tuple[str, ...]] = {
    "number": (
        "no", "nr", "number", "nummer", "step no", "step nr", "step number", "stepno", "schritt nr", "schrittnr", "schrittnummer",
        "schritt no", "lfd nr", "pos", "position", "#", "step #", "schritt #", "state no", "state number", "zustand nr", "row", "zeile",
    ),
    "name": (
        "step", "name", "step name", "stepname", "description", "step description", "bezeichnung", "beschreibung", "schritt",
        "schrittname", "state", "zustand", "phase", "action", "aktion", "activity", "vorgang", "taetigkeit", "what happens", "funktion",
        "function",
    ),
    "condition": (
        "condition", "conditions", "awaits", "condition to advance", "advance condition", "transition", "transition condition",
        "weiterschaltbedingung", "weiterschaltung", "bedingung", "bedingungen", "wait for", "waits for", "advance when", "advance",
        "step enabling condition", "weiter wenn", "weiter bei", "next when", "exit condition", "leave when", "until condition", "step condition",
        "bedingung weiter", "weiter mit", "fortschaltbedingung", "weiter bei bedingung", "advances when", "ends when", "endbedingung",
    ),
    "duration": (
        "time", "duration", "dwell", "dwell time", "zeit", "dauer", "step time", "schrittzeit", "wartezeit", "laufzeit", "hold time",
        "haltezeit", "waiting time", "wait time", "timer", "delay", "verweilzeit", "verzoegerung",
    ),
    "start": ("start", "from", "von", "beginn", "begin", "start time", "startzeit", "begins at"),
    "end": ("end", "ends at", "bis", "ende", "end time", "endzeit", "end at", "to time", "cumulated time", "until"),
    "longest": (
        "longest", "timeout", "time out", "max", "max time", "maximum", "maximum time", "monitoring time", "ueberwachungszeit", "ueberwachung",
        "max zeit", "maximalzeit", "hoechstzeit", "watchdog", "stoerzeit",
    ),
    "shortest": ("shortest", "min", "min time", "minimum", "minimum time", "mindestzeit", "min zeit"),
    "late": ("when late",),
    "permissive": ("permissive", "freigabe", "enable", "enabling condition"),
    "priority": ("priority", "prio", "prioritaet"),
    "way": ("way", "transition name"),
    "next": (
        "next", "go to", "goto", "next step", "naechster", "naechster schritt", "folgeschritt", "weiter zu", "weiter", "jump", "jump to",
        "sprung", "sprung nach", "then", "followed by", "leads to", "ziel",
    ),
    "outputs": (
        "output", "outputs", "ausgang", "ausgaenge", "active outputs", "outputs on", "aktive ausgaenge", "actuators on", "marks",
    ),
    "comment": ("comment", "comments", "remark", "remarks", "bemerkung", "bemerkungen", "kommentar", "note", "notes", "hinweis", "anmerkung"),
    "flow": ("flow", "ablauf"),
}  # fmt: skip
SIGNAL_WORDS: dict[str, tuple[str, ...]] = {
    "name": (
        "name", "symbol", "tag", "signal", "variable", "identifier", "tag name", "signal name", "signalname", "variablenname",
        "symbolname", "kennzeichen", "bmk", "betriebsmittel", "betriebsmittelkennzeichen",
    ),
    "class": (
        "class", "direction", "i/o", "io", "e/a", "ea", "kind", "usage", "scope", "klasse", "richtung", "art", "signalart", "ein/ausgang",
    ),
    "type": ("type", "data type", "datatype", "format", "typ", "datentyp"),
    "address": (
        "address", "addr", "absolute address", "plc address", "i/o address", "io address", "hardware address", "adresse", "absolutadresse",
        "sps adresse", "e/a adresse", "hardwareadresse", "operand",
    ),
    "terminal": ("location", "channel", "terminal", "kanal", "klemme"),
    "contact": ("contact", "contact form", "no/nc", "nc/no", "wiring", "kontakt", "kontaktart", "schliesser/oeffner", "oeffner/schliesser"),
    "initial": ("initial", "initial value", "init", "default", "start value", "value", "anfangswert", "initialwert", "startwert", "wert", "vorgabe"),
    "home": ("home", "home value", "rest", "rest value", "grundstellung", "ruhelage"),
    "retain": ("retain", "retentive", "keep", "remanent", "remanenz"),
    "unit": ("unit", "eng unit", "engineering unit", "units", "einheit"),
    "comment": (
        "comment", "description", "remark", "note", "text", "remarks", "comments", "kommentar", "beschreibung", "bemerkung", "bezeichnung",
        "klartext", "function", "meaning", "funktion", "funktionstext", "bedeutung",
    ),
}  # fmt: skip
GROUPS = {
    "input": ("input", "inputs", "eingang", "eingaenge", "sensor", "sensors", "sensoren", "switches", "geber"),
    "output": (
        "output",
        "outputs",
        "ausgang",
        "ausgaenge",
        "actuator",
        "actuators",
        "aktoren",
        "aktor",
        "stellglieder",
    ),
    "counter": ("counter", "counters", "zaehler"),
    "body": ("body", "bodies"),
    "run": ("run", "runs"),
}
_LEAVES = "continues?|proceeds?|advances?|goes on|go on|moves on|move on|leaves?|left|exits?|next|steps?|done|finished|weiter|fertig|ende"
_CONDITION = re.compile(
    rf"(?:.*\b)?(?:condition|conditions|bedingung|bedingungen)|(?:{_LEAVES}) (?:when|if|once|after|wenn|falls|sobald|nach)"
)
"""Headings of conditions in other words than those above: *Continue when*, *next condition*."""
MOST_ABOVE = 60
"""Rows among which the headings are looked for."""
_UNIT = re.compile(r"[\[(]\s*([^\])]*?)\s*[\])]|\bin\s+(ms|s|sec|sek|min|h)\b", re.IGNORECASE)
_UMLAUTS = str.maketrans({"ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss", "Ä": "Ae", "Ö": "Oe", "Ü": "Ue"})


def latin(text: str) -> str:
    """German letters as two."""
    return text.translate(_UMLAUTS)


def plain_head(text: str) -> str:
    """A heading without case, units in brackets and punctuation.

    >>> plain_head("Nächster Schritt:"), plain_head("Time [s]"), plain_head("Step-No.")
    ('naechster schritt', 'time', 'step no')
    """
    text = _UNIT.sub(" ", latin(text)).lower()
    return " ".join(re.sub(r"[^\w#/]+|_", " ", text).split())


def unit_of(head: str) -> str:
    """The unit that a heading gives in brackets, in lower case; empty for none."""
    found = _UNIT.search(head)
    return (found[1] or found[2] or "").strip().lower() if found else ""


def role_of(head: str, words: Mapping[str, Iterable[str]]) -> str:
    """Which of the known columns a heading is; empty for none."""
    plain = plain_head(head)
    found = next((role for role, known in words.items() if plain in known), "") if plain else ""
    return found or ("condition" if "condition" in words and _CONDITION.fullmatch(plain) else "")


@dataclass(frozen=True, slots=True)
class Heading:
    """The row that headings stand in (from 0), and the known columns of it by their numbers."""

    row: int
    roles: dict[int, str]
    score: int


def find_heading(sheet: Sheet, words: Mapping[str, Iterable[str]], least: int = 2) -> Heading | None:
    """The row with the most known headings, the upper of two alike; None where no row has `least` of them."""
    best: Heading | None = None
    for r, row in enumerate(sheet.rows[:MOST_ABOVE]):
        roles = roles_in(row, words)
        if len(roles) >= least and (best is None or len(roles) > best.score):
            best = Heading(r, roles, len(roles))
    return best


def find_step_heading(sheet: Sheet) -> Heading | None:
    """As `find_heading`, for a table of steps: one that has nothing but a step and its marks too."""
    found = find_heading(sheet, STEP_WORDS)
    if found is None:
        found = find_heading(sheet, STEP_WORDS, 1)
        if found is None or sum(bool(c) for c in sheet.rows[found.row]) < 3:
            return None
        alone = set(found.roles.values()) <= {"number", "name"}
        below = [sheet.cell(r, 0) for r in range(found.row + 1, min(len(sheet.rows), found.row + 6))]
        if not alone and (sheet.cell(found.row, 0) or not all(below) or not below):
            return None  # names of steps may stand below nothing
    return found


def with_second_row(sheet: Sheet, row: int, roles: dict[int, str]) -> tuple[Sheet, int]:
    """Headings in two rows as one: names of signals below *Outputs* and *Inputs*, with nothing below the step. Gives the sheet and
    the row of its headings.
    """
    below = sheet.rows[row + 1] if row + 1 < len(sheet.rows) else ()
    named = [
        i for i, c in enumerate(below) if re.fullmatch(r"[^\W\d][\w .\-/]*", c) and c.lower() not in ("x", "on", "off")
    ]
    step = [i for i, role in roles.items() if role in ("number", "name")]
    if (
        len(named) < 2
        or any(i < len(below) and below[i] for i in step)
        or any(i in roles and roles[i] != "outputs" for i in named)
    ):
        return sheet, row
    joined = tuple(
        sheet.cell(row + 1, c) or ("" if c in _under(sheet, row, named) else sheet.cell(row, c))
        for c in range(sheet.width)
    )
    return replace(sheet, rows=(*sheet.rows[: row + 1], joined, *sheet.rows[row + 2 :])), row + 1


def _under(sheet: Sheet, row: int, named: list[int]) -> set[int]:
    """Columns whose heading is the title of those below it."""
    return {c for c in range(sheet.width) if sheet.cell(row, c) and c in named}


def roles_in(row: Iterable[str], words: Mapping[str, Iterable[str]]) -> dict[int, str]:
    """The known columns of a row of headings, the first of each kind."""
    found: dict[int, str] = {}
    for i, head in enumerate(row):
        role = role_of(head, words)
        if role and role not in found.values():
            found[i] = role
    return found


def groups_above(sheet: Sheet, row: int) -> dict[int, str]:
    """What a heading above the headings says of the columns from there on, such as *Outputs* over five of them; empty for one that
    says nothing that is known.
    """
    found: dict[int, str] = {}
    for r in range(max(0, row - 4), row):
        words = {c: plain_head(sheet.cell(r, c)) for c in range(sheet.width)}
        groups = {c: next((g for g, known in GROUPS.items() if w in known), "") for c, w in words.items() if w}
        if any(groups.values()):
            found |= groups
    return found
