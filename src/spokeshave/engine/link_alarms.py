"""Links alarms: their conditions with those of everything else, the values in their texts apart, since they are read only when
an alarm is raised (semantics 9.6).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from spokeshave.engine import program as pg
from spokeshave.engine.checked_texts import Texts
from spokeshave.engine.names import TextScope
from spokeshave.language import checked as ck
from spokeshave.language.compile import Compiled, Unit, compile_units
from spokeshave.model.alarm_sources import sources
from spokeshave.model.alarms import AlarmRule, ident_of, phrase_of, pieces
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Type

Code = Sequence[Compiled]


class AlarmLinker:
    """Links alarms of their own and the words of all."""

    def __init__(self, texts: Texts) -> None:
        self.texts = texts
        spoken = sources(texts.project) if texts.project.alarms else ()
        self._idents = {source.on.lower(): source.ident for source in spoken if source.on}
        self._values: list[Unit] = []
        self._words: dict[str, list[str | tuple[int, Type, int]]] = {}

    def alarm(self, rule: AlarmRule) -> Callable[[Code], pg.LinkedAlarm] | None:
        """An alarm with a condition; None for words of another, and for what has errors."""
        place = Place("alarm", item=rule.on or rule.name)
        ident = self._idents.get(rule.on.lower()) or ident_of(rule)
        scope = TextScope(self.texts.table)
        if rule.text.strip():
            self._read_words(ident, rule.text, place, scope)
        elif ident.startswith("hold:"):  # a hold tells only where somebody has a word for it
            self._words[ident] = [phrase_of(ident)]
        if rule.on:
            return None
        tree = self.texts.check(rule.condition, place, scope, "condition")
        delay = self.texts.check(rule.delay, place, scope, "time") if rule.delay.strip() else None
        if tree is None or (rule.delay.strip() and delay is None):
            return None
        if delay is not None:
            slot = self.texts.table.edge("HELD", tree, delay)
            tree = ck.Edge(Type.BOOL, "HELD", slot, tree, delay, tree.span)
        unit = self.texts.unit(tree, place)
        return lambda code: pg.LinkedAlarm(ident, rule.name, code[unit], place)

    def _read_words(self, ident: str, text: str, place: Place, scope: TextScope) -> None:
        found: list[str | tuple[int, Type, int]] = []
        for piece in pieces(text):
            if isinstance(piece, str):
                found.append(piece)
                continue
            tree = self.texts.check(piece.expression, place, scope, "value")
            if tree is not None:
                found.append((len(self._values), tree.type, piece.digits))
                self._values.append((self.texts.place(place), tree))
        self._words[ident] = found

    def words(self) -> dict[str, pg.LinkedWords]:
        """The texts, with the code of their values."""
        code = compile_units(self._values) if self._values else []
        return {
            ident: pg.LinkedWords(tuple(x if isinstance(x, str) else (code[x[0]], x[1], x[2]) for x in found))
            for ident, found in self._words.items()
        }
