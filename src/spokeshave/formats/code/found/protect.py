"""What protects, found in plain code: trips, holds, restarts, windows that raise them, interlocks, opposed pairs."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.formats.code.found.actions import Actions, place_of
from spokeshave.formats.code.tokens import Token, tokens
from spokeshave.language import syntax as sx
from spokeshave.language.literals import time_ms
from spokeshave.model.project import Instance, Interlock, OpposedPair, Project, Signal, Trip

_ZEROS = frozenset(("FALSE", "0", "T#0S", "0.0"))


class Protected(Actions):
    """Takes statements that trip, hold, restart, or keep outputs off."""

    def __init__(self, text: str, project: Project, signals: dict[str, Signal], instances: dict[str, Instance]) -> None:
        super().__init__(text, project, signals, instances)
        self.home = self.reset = ""
        self.trips: dict[str, Trip] = {}
        """By name in lower case, ranked as they are listed."""
        self.orders: list[list[str]] = []
        """Trips of one sequence, the deciding one first."""
        self.cleared: dict[str, dict[str, None]] = {}
        """What trips set to zero, in lower case."""
        self.holds: dict[str, str] = {}
        self.restarts: dict[str, str] = {}
        self.responses: dict[tuple[str, str], str] = {}
        self.interlocks: list[Interlock] = []
        self.opposed: list[OpposedPair] = []

    def take_states(self, statements: tuple[sx.Statement, ...]) -> None:
        """As of `States`, with the variables of sequences that are protected."""
        super().take_states(statements)
        for name in self.of:
            for end in ("Tripped", "Held", "Run", "Jumped", "Late_Hold", "Keeps", "Acts"):
                if f"{name}_{end}".lower() in self.signals:
                    self.gone.add(f"{name}_{end}".lower())
        for low, s in self.signals.items():
            if f"{low}_asked" in self.signals:
                self.names[f"{low}_asked"] = s.name
                self.gone.add(f"{low}_asked")
        if "home_now" in self.signals:
            self.names["home_now"] = "Home"
            self.gone.add("home_now")

    def sequence_of(self, low: str, end: str) -> str:
        """The sequence of a variable such as `Gate_Held`; empty for another."""
        return next((n for n in self.of if low == f"{n}_{end}".lower() and low in self.gone), "")

    def protects(self, s: sx.Statement) -> bool:
        """Takes a statement if it protects."""
        if isinstance(s, sx.Assign):
            return self._sets(s, str(s.target).lower(), self.text_of(s.value))
        if not isinstance(s, sx.If):
            return False
        condition, inner = s.branches[0]
        low = [t.word.lower() for t in tokens(self.text_of(condition))]
        if low[0] == "not" and low[1].removesuffix("_on") in self.trips and len(low) == 2:
            return self._comes_and_goes(s, low[1].removesuffix("_on"))
        if low[0].removesuffix("_on") in self.trips and len(low) == 1:
            return self._trips(s)
        assigned = list(self.assigned(inner))
        if low[0] == "not" and self.sequence_of(low[1], "Run"):
            return True  # clocks that stand still
        if len(s.branches) > 1 or s.otherwise:
            return False
        jumps = next((q for a, value in assigned if value == "TRUE" and (q := self.sequence_of(a, "Jumped"))), "")
        if jumps:
            self.restarts[jumps] = self._operand(self.text_of(condition), jumps)
            return True
        if len(assigned) == 1 and assigned[0][1] == "FALSE" and self.sequence_of(assigned[0][0], "Late_Hold"):
            self.reset = self._operand(self.text_of(condition), "")
            return True
        return self._goes_out(low, condition, assigned) or self._windows(s, low) or self._keeps(s, low)

    def _operand(self, text: str, own: str) -> str:
        """The condition whose coming true a condition begins with."""
        words = tokens(text)
        last, depth = words[0], 0
        for last in words:
            depth += (last.word == "(") - (last.word == ")")
            if not depth:
                break
        spoken = self.spoken(text[words[0].start : last.end], own)
        return bare(spoken.removeprefix("RISING(")[:-1]) if spoken.startswith("RISING(") else ""

    def _sets(self, s: sx.Assign, low: str, value: str) -> bool:
        if low == "home_now":
            self.home = bare(self.spoken(value, ""))
            return True
        stem = low.removesuffix("_if")
        if stem != low and f"{stem}_on" in self.signals:
            name = str(s.target)[:-3]
            self.trips[stem] = Trip(name, len(self.trips) + 1, bare(self.spoken(value, "")), scope=())
            self.gone |= {low, f"{stem}_on", f"{stem}_raised"}
            return True
        if low.endswith("_raised") and low.removesuffix("_raised") in self.trips:
            return True
        if self.names.get(value.lower(), "").lower() == low:
            return True  # what is asked for goes out, until something keeps it off
        if held := self.sequence_of(low, "Held"):
            self._holding(held, value)
            return True
        return low in self.gone and any(self.sequence_of(low, x) for x in ("Tripped", "Run", "Jumped", "Keeps", "Acts"))

    def _holding(self, q: str, value: str) -> None:
        """`Gate_Held := NOT Gate_Tripped AND (Gate_Late_Hold OR Pause);`"""
        words = tokens(value)
        if [t.word.lower() for t in words[:3]] == ["not", f"{q}_tripped".lower(), "and"]:
            words = words[3:]
        text = bare(value[words[0].start :])
        late = f"{q}_Late_Hold"
        if text.upper().startswith(f"{late} OR ".upper()):
            text = text[len(late) + 4 :]
        self.holds[q] = "" if text == late else bare(self.spoken(text, q))

    # -- trips

    def _comes_and_goes(self, s: sx.If, name: str) -> bool:
        trip, goes = self.trips[name], self.text_of(s.branches[1][0])
        words = tokens(goes)
        latching = len(words) > 2
        if latching and words[3].word.upper() != "FALSE":
            self.reset = self._operand(goes[words[3].start :], "")
        done = [a for a, value in self.assigned(s.branches[0][1]) if value == "FALSE"]
        scope = tuple(q for q in self.of if f"{name}_{q}_done".lower() in done)
        self.gone |= set(done)
        self.trips[name] = replace(trip, latching=latching, scope=None if len(scope) == len(self.of) else scope)
        return True

    def _trips(self, s: sx.If) -> bool:
        """What each trip does to one sequence, the deciding one first."""
        order = [self.text_of(c).lower().removesuffix("_on") for c, _ in s.branches]
        self.orders.append(order)
        for name, (_, inner) in zip(order, s.branches):
            trip, assigned = self.trips[name], list(self.assigned(inner))
            q = next(
                (
                    q
                    for q in self.of
                    if any(a in (f"{name}_{q}_done".lower(), f"{q}_tripped".lower()) for a, _ in assigned)
                ),
                "",
            )
            if not q:
                return False
            goes = not any(a == f"{q}_tripped".lower() for a, _ in assigned)
            to = [
                f"{q}.{self.threads[a].steps[int(value)].name}"
                for a, value in assigned
                if a in self.threads and value.isdigit() and int(value) in self.threads[a].steps
            ]
            if goes:
                trip = replace(trip, steps="go to", go_to=(*trip.go_to, to[0]))
            elif to:
                trip = replace(trip, steps="restart")
            if any(value.startswith("SEL(") for _, value in assigned):
                trip = replace(trip, times="zero")
            self.cleared.setdefault(name, {}).update((a, None) for a, value in assigned if value in _ZEROS)
            self.trips[name] = trip
        return True

    def found_trips(self) -> tuple[Trip, ...]:
        """The trips with their ranks and what they set to zero."""
        ranked = list(self.trips)
        for order in self.orders:
            places = sorted(ranked.index(n) for n in order)
            for place, name in zip(places, order):
                ranked[place] = name
        helpers = (self.gone | self.stored.keys() | self.threads.keys() | self.latched) - (
            self.names.keys() - self.latched
        )
        out = []
        blocks = [a for found in self.marks.values() for _, a in found]
        set_somewhere = {a.target.lower() for a in blocks if a.qualifier.rule.stored}
        for name, trip in self.trips.items():
            cleared = self.cleared.get(name, {})
            zeroed = tuple(self.names.get(low) or self.signals[low].name for low in cleared if low not in helpers)
            lasting = [low for low in self.stored if not low.endswith("_kept")]
            lasting += [low for low in self.latched if self.names.get(low, low).lower() in set_somewhere]
            kept = any(low not in cleared and self._in_scope(low, trip) for low in lasting)
            out.append(replace(trip, rank=ranked.index(name) + 1, zeroed=zeroed, stored="keep" if kept else "clear"))
        return tuple(out)

    def _in_scope(self, low: str, trip: Trip) -> bool:
        """Whether what is stored belongs to a sequence on which a trip acts."""
        term, name = self.stored.get(low), self.names.get(low, low).lower()
        mine = {q for (q, _), found in self.marks.items() for _, a in found if a.target.lower() == name}
        return any(map(trip.acts_on, mine if term is None else {term.thread.sequence}))

    # -- windows

    def _windows(self, s: sx.If, low: list[str]) -> bool:
        """`IF Gate = 40 AND NOT Gate_Open_Late AND GateT >= T#5s THEN Gate_Open_Late := TRUE; END_IF;`, several in an IF that asks
        whether the sequence runs.
        """
        inner = s.branches[0][1]
        if (
            len(low) == 1
            and (low[0] == "true" or self.sequence_of(low[0], "Run"))
            and all(isinstance(x, sx.If) for x in inner)
        ):
            return all(isinstance(x, sx.If) and self._window(x) for x in inner)
        return self._window(s)

    def _window(self, s: sx.If) -> bool:
        condition, inner = s.branches[0]
        words = [t.word for t in tokens(self.text_of(condition))]
        start = 2 if len(words) == 12 and words[1].upper() == "AND" else 0
        words = words[start:]
        if len(words) != 10 or words[4].upper() != "NOT" or words[8] != ">=" or words[5].lower() not in self.said:
            return False
        sequence, member = self.said[words[5].lower()]
        key = (sequence, member.split(".")[0])
        self.longest[key] = words[9]
        for a, _ in self.assigned(inner):
            if a.removesuffix("_raised") in self.trips and a.endswith("_raised"):
                self.responses[key] = self.trips[a.removesuffix("_raised")].name
            elif self.sequence_of(a, "Late_Hold"):
                self.responses[key] = "hold"
        return True

    # -- outputs

    def _goes_out(self, low: list[str], condition: sx.Expression, assigned: list[tuple[str, str]]) -> bool:
        """Interlocks, opposed pairs and their dead times."""
        between = next((a for a, _ in assigned if "_after_" in a), "") or ("_after_" in low[0] and low[0])
        if between and low[0] == between:
            return True  # it goes by
        if between:
            self.gone.add(str(between))
            first, second = str(between).split("_after_")
            dead = time_ms(assigned[0][1]) - self.base.period_ms
            self.opposed = [
                replace(o, dead_ms=dead) if {o.first.lower(), o.second.lower()} == {first, second} else o
                for o in self.opposed
            ]
            return True
        plain = self._goes_out_as_asked(low[0])
        if plain and low[1:2] == ["and"] and assigned == [(low[0], "FALSE")]:
            text = self.text_of(condition)
            self.interlocks.append(Interlock(plain, _opposite(self.spoken(text[tokens(text)[1].end :], ""))))
            return True
        if low[0] in self.names and low[1:4] == ["and", "not", "("]:
            text = self.text_of(condition)
            words = tokens(text)
            inner = text[words[3].end : words[-1].start].strip()
            self.interlocks.append(Interlock(self.names[low[0]], bare(self.spoken(inner, ""))))
            return True
        if len(low) == 3 and low[0] in self.names and low[2] in self.names:
            self.opposed.append(OpposedPair(self.names[low[0]], self.names[low[2]]))
            return True
        return False

    def _goes_out_as_asked(self, low: str) -> str:
        """The output that steps act on, where nothing else stands for what they ask for; empty for another variable."""
        signal = self.signals.get(low)
        mapped = any(a.target.lower() == low for found in self.marks.values() for _, a in found)
        return signal.name if signal is not None and mapped and f"{low}_asked" not in self.signals else ""

    # -- under a hold

    def free(self, words: list[Token]) -> list[Token]:
        """Words without what asks whether their sequence runs, acts or is held."""
        low = [t.word.lower() for t in words]
        if len(low) > 2 and low[1] == "and" and any(self.sequence_of(low[0], x) for x in ("Run", "Acts")):
            return self.free(words[2:])
        if (
            len(low) > 6
            and low[0] == "("
            and low[2] == "or"
            and low[4:6] == [")", "and"]
            and self.sequence_of(low[1], "Run")
        ):
            return self.free(words[6:])
        if len(low) > 3 and low[-3:-1] == ["and", "not"] and self.sequence_of(low[-1], "Held"):
            return self.free(words[:-3])
        return words

    def _keeps(self, s: sx.If, low: list[str]) -> bool:
        """`IF Gate_Run THEN Gate_Open_Lamp_Kept := Gate = 20 AND Gate <> GateLast; END_IF;`, which a hold keeps."""
        (first, *more) = s.branches[0][1]
        if len(low) != 1 or not self.sequence_of(low[0], "Run") or more or not isinstance(first, sx.Assign):
            return False
        name = str(first.target).lower()
        term = self.term(tokens(self.text_of(first.value))) if name.endswith("_kept") else None
        if term is None:
            return False
        self.stored[name] = replace(term, place=place_of(name))
        self.gone.add(name)
        return True


def bare(text: str) -> str:
    """A condition without the parentheses that it needs beside an AND."""
    text = text.strip()
    if not (text.startswith("(") and text.endswith(")")):
        return text
    depth = 0
    for n, c in enumerate(text):
        depth += (c == "(") - (c == ")")
        if not depth and n < len(text) - 1:
            return text
    return text[1:-1]


def _opposite(text: str) -> str:
    """The condition that holds where another does not."""
    words = tokens(text)
    rest = bare(text[words[0].end :]) if words[0].word.upper() == "NOT" else ""
    joined = {t.word.upper() for t in words} & {"AND", "OR", "XOR"}
    if rest and (not joined or rest != text[words[0].end :].strip()):
        return rest
    return f"NOT {text.strip()}" if len(words) == 1 else f"NOT ({text.strip()})"
