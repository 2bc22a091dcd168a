"""Files read with the proof that nothing changed its behaviour on the way in.

A program written by hand with a state is read as a sequence, in the form a person would draw. Text and sequence are then run
beside each other (`proof`), and where they differ the sequence takes the next plainer form, down to the text as it stands
with a chart that follows it. Where that differs too the text is refused.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import islice, product
from pathlib import Path
from typing import TYPE_CHECKING

from spokeshave.formats.disk import bytes_of
from spokeshave.formats.errors import FormatError, reading
from spokeshave.formats.files import TABLES, text_of
from spokeshave.formats.files import read_project as read_as_it_is
from spokeshave.formats.iec_places import in_file
from spokeshave.formats.states.choices import FLAGS, Choices, Note
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.project import Project

if TYPE_CHECKING:
    from spokeshave.formats.iec_read import Read
    from spokeshave.reading.proof import Proof

# What reads programs and tables is loaded where one is read: a machine file is read without.

OF_STATES = ("times", "edges", "hold", "pulses", "first", "trip")
"""Choices that say when the state changes: where it changed otherwise, others of these are tried first."""
MOST_TRIED = 24
"""Forms of a state program that are run beside its text."""
MOST_APART = 4
"""Variables that are set by logic for themselves."""


@dataclass(frozen=True, slots=True)
class Reading:
    """A text as it was read. `notes` tell what became of the parts of a state program; `shown` how it was compared with its
    text: empty for a text that is a chart already.
    """

    project: Project
    choices: Choices | None = None
    notes: tuple[Note, ...] = ()
    shown: str = ""
    text: str = ""
    """The text of a state program."""


def read_project(path: Path) -> Project:
    """The machine file at `path`, as `formats.files.read_project`; a state program only if the sequence it became does the
    same. Raises `FormatError`.
    """
    return read_file(path).project


def look_at(path: Path) -> None:
    """Raises `FormatError` where a file cannot be read; a program written by hand is not run beside its text for that."""
    if path.suffix.lower() in TABLES:
        from spokeshave.formats.tables.book import read_book

        read_book(path)
        return
    if path.suffix.lower() == ".xml":
        from spokeshave.formats.plcopen.reading import text_of_xml

        with reading(path):
            text_of_xml(bytes_of(path))
        return
    if path.suffix.lower() != ".st":
        read_as_it_is(path)
        return
    from spokeshave.formats.iec_read import parse_states

    with reading(path):
        text = text_of(path)
        if is_by_hand(text):
            parse_states(text).project(Choices())
        else:
            read_text(text)


def read_file(path: Path) -> Reading:
    """As `read_project`, with what became of the text. Raises `FormatError`."""
    if path.suffix.lower() == ".xml":
        return _read_xml(path)
    if path.suffix.lower() != ".st":
        return Reading(read_as_it_is(path))
    with reading(path):
        return read_text(text_of(path))


def _read_xml(path: Path) -> Reading:
    """The IEC text that a PLCopen XML file stands for, read as one; faults and notes with their places in the XML."""
    from spokeshave.formats.plcopen.reading import completed, located, text_of_xml

    with reading(path):
        text = text_of_xml(bytes_of(path))
        try:
            found = read_text(text.lines.text + text.pragma)
        except FormatError as error:
            raise located(error, text) from None
    notes = tuple(Note(0, f"{text.lines.place(n.line)}: {n.text}") for n in found.notes)
    return replace(found, project=completed(found.project, text), notes=notes)


def located(found: list[Diagnostic], file: Path) -> list[Diagnostic]:
    """Findings of an IEC text with the line and column they have in it, where that is known."""
    from spokeshave.formats.iec_read import places_in_text

    text = text_of(file)
    try:
        origins = places_in_text(text, read_text(text).choices)
    except FormatError:
        return found
    return [in_file(d, origins, str(file)) for d in found]


def read_iec(text: str) -> Project:
    """The machine file of an IEC text, its state programs proven beside the text. Raises `FormatError`."""
    return read_text(text).project


_CHART = re.compile(r"\b(?:INITIAL_STEP|END_TRANSITION)\b|\{spokeshave", re.IGNORECASE)


def is_by_hand(text: str) -> bool:
    """Whether an IEC text has no chart in it, so that reading it may take a while."""
    return _CHART.search(text) is None


def read_path_elsewhere(path: Path) -> Reading | str:
    """As `read_file`, for a process."""
    try:
        return read_file(path)
    except FormatError as error:
        return str(error)


def read_elsewhere(text: str) -> Reading | str:
    """As `read_text`, for a process; a text with a fault gives what is wrong with it."""
    try:
        return read_text(text)
    except FormatError as error:
        return str(error)


@lru_cache(maxsize=4)
def read_text(text: str) -> Reading:
    """As `read_iec`, with what became of the text. Raises `FormatError`."""
    from spokeshave.formats.iec_read import parse_states

    read = parse_states(text)
    if read.written is not None:
        return _proven(read)
    notes = tuple(sorted(read.reader.notes, key=lambda n: n.line)) if read.shown else ()
    return Reading(read.project(Choices()), None, notes, read.shown, read.text)


def _proven(read: Read) -> Reading:
    """The nicest form that does what the text does."""
    from spokeshave.formats.states.fold import ENTRY
    from spokeshave.reading.proof import Proof

    assert read.written is not None
    proof = Proof([p for p in (read.written, read.at_once) if p is not None], read.states)
    tried: list[Project] = []
    first = ""
    odd: list[tuple[Choices, list[str]]] = []

    def equal(choices: Choices) -> Reading | None:
        nonlocal first
        proof.of_states = False
        project = read.project(choices)
        if project in tried or str(ENTRY) in f"{project.opening}{project.closing}":
            return None  # logic does not know of the first scan of a state
        tried.append(project)
        difference = proof.difference(project)
        if not difference:
            return Reading(project, choices, _notes(read, first, proof.stops), proof.shown(project), read.text)
        first = first or ("" if str(ENTRY) in difference else difference)
        odd.extend([(choices, proof.odd)] if proof.odd and not choices.apart else [])
        return None

    def apart(most: int) -> Reading | None:
        """The forms of which just some variables differed, with those apart."""
        for choices in islice(_with_some_apart(odd, proof), most):
            if found := equal(choices):
                return found
        odd.clear()
        return None

    for group, most in _groups(read):
        doubtful: set[tuple[bool, ...]] = set()
        later: list[Choices] = []
        before = len(tried)
        for choices in group:
            ways = tuple(getattr(choices, name) for name in OF_STATES)
            if ways in doubtful:  # it changed the state otherwise with nicer ones: behind all others
                later.append(choices)
                continue
            if found := equal(choices):
                return found
            if proof.of_states:
                doubtful.add(ways)
            if len(tried) - before > most:
                break
        if found := apart(most):
            return found
        for choices in later:
            if found := equal(choices):
                return found
            if len(tried) - before > 2 * most:
                break
        if found := apart(most):
            return found
    kept = read.project(None)
    if difference := proof.difference(kept):
        raise FormatError(f"the sequence would not do what the text does: {difference}",
                          advice="set the state in one place of each branch, from conditions alone")  # fmt: skip
    return Reading(kept, None, _notes(read, first, proof.stops), proof.shown(kept), read.text)


def _with_some_apart(odd: list[tuple[Choices, list[str]]], proof: Proof) -> Iterator[Choices]:
    """The forms of which just some variables differed, those variables apart: what is odd about one need not spoil the rest. Which
    others differ then is seen when a form was compared.
    """
    for form, names in odd:
        for _ in range(MOST_APART):
            more = [name for o in names if (name := o.lower()) not in form.apart]
            if not more:
                break
            form = replace(form, apart=form.apart | {more[0]})
            yield form
            names = proof.odd


def _notes(read: Read, first: str, stops: str) -> tuple[Note, ...]:
    why = (Note(1, f"a nicer form was left: there, {first}"),) if first else ()
    if stops:
        why = (*why, Note(1, f"as it is written, {stops}"))
    return (*sorted(read.reader.notes, key=lambda n: n.line), *why)


def _forms(read: Read) -> Iterator[Choices]:
    """The forms a state program can take, the nicest first. The nicest is the one for most; what else there is to choose is
    found out only behind it.
    """
    nicest, plainest = Choices(), Choices(**dict.fromkeys(FLAGS, False))  # type: ignore[arg-type]
    yield nicest
    names = [
        name
        for name in FLAGS
        if read.project(_with(nicest, name, False)) != read.project(nicest)
        or read.project(_with(plainest, name, True)) != read.project(plainest)
    ]
    forms = (dict(zip(names, values)) for values in product((True, False), repeat=len(names)))
    named = (Choices(**form) for form in forms)  # type: ignore[arg-type]
    yield from sorted(named, key=lambda c: c.losses)


def _groups(read: Read) -> list[tuple[Iterable[Choices], int]]:
    """The forms, those first in which inner states are sequences; with how many of them are tried."""
    every = list(_forms(read)) if any(p.beside is not None for p in read.reader.cases) else None
    if every is None:
        return [(_forms(read), MOST_TRIED)]
    return [([c for c in every if c.nested], MOST_TRIED // 2), ([c for c in every if not c.nested], MOST_TRIED)]


def _with(choices: Choices, name: str, value: bool) -> Choices:
    return replace(choices, **{name: value})  # type: ignore[arg-type]
