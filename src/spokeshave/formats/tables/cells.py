"""What the cells of a sequence table mean: marks, times, names, conditions as people write them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from spokeshave.formats.tables.headings import latin
from spokeshave.language import syntax as sx
from spokeshave.language.literals import duration_ms, time_text
from spokeshave.language.parse import parse_expression
from spokeshave.language.printer import expression_text
from spokeshave.language.rename import name_problem
from spokeshave.language.syntax import LONGEST_NAME, TextError
from spokeshave.model.edits import typed_time
from spokeshave.model.project import Type

ON = frozenset(
    ("x", "1", "on", "true", "yes", "ja", "ein", "an", "●", "•", "■", "✓", "✔", "☒", "☑", "y", "j", "1.0", "wahr")
)
OFF = frozenset(("", "0", "off", "false", "no", "nein", "aus", "-", "–", "—", "n", "0.0", "falsch", "/"))
DOTS = frozenset((".", "·", "o"))
"""A mark where no other is used, else nothing."""
SPOKEN = {
    "open": True, "opened": True, "offen": True, "auf": True, "run": True, "running": True, "laeuft": True, "läuft": True, "active": True,
    "aktiv": True, "closed": False, "close": False, "zu": False, "geschlossen": False, "stop": False, "stopped": False, "steht": False,
    "inactive": False, "inaktiv": False, "halt": False,
}  # fmt: skip
"""What a device does, where a column has nothing but such words."""
_SWITCHED = re.compile(
    r"(?:(?P<first>set|setze|reset|rücksetze|ruecksetze)\s+(?P<named>.+)"
    r"|(?P<name>.+?)(?:\s+(?P<last>on|ein|einschalten|off|aus|ausschalten)|\s*:?=\s*(?P<value>1|0|on|off|ein|aus|true|false)))",
    re.IGNORECASE | re.DOTALL,
)
_NUMBER = re.compile(r"[0-9]+(?:[.,][0-9]+)?")
_CLOCK = re.compile(r"(?:([0-9]{1,2}):)?([0-9]{1,2}):([0-9]{2})(?:[.,]([0-9]{1,3}))?")
_UNITS = {"ms": 1, "s": 1000, "sec": 1000, "sek": 1000, "seconds": 1000, "sekunden": 1000, "min": 60_000, "minutes": 60_000,
          "minuten": 60_000, "h": 3_600_000, "std": 3_600_000}  # fmt: skip
_WORDS = {"und": "AND", "oder": "OR", "nicht": "NOT", "&&": "AND", "||": "OR", "|": "OR", "!": "NOT ", "==": "=", "!=": "<>", "≥": ">=", "≤": "<=",
          "≠": "<>", "=>": ">=", "=<": "<=", "wahr": "TRUE", "falsch": "FALSE", "on": "TRUE", "off": "FALSE"}  # fmt: skip
_WORD = re.compile(
    r"\"[^\"]*\"|\(\*.*?\*\)|(?:T|TIME)#[\w.]+|&&|\|\||!=|==|=>|=<|<=|>=|<>|:=|\w+|.", re.IGNORECASE | re.DOTALL
)
_ADDRESS = re.compile(r"%?(?P<area>[IQMEA])(?P<size>[XBWDL]?)\s*(?P<at>[0-9]+(?:\.[0-9]+)*)", re.IGNORECASE)
_WAIT = re.compile(
    r"(?:after|wait|nach|warte|warten|for|t)?\s*[=>]*\s*([0-9][0-9.,]*\s*(?:ms|s|sec|sek|min|h))\s*(?:vergangen|abgelaufen|elapsed|passed)?",
    re.IGNORECASE,
)


def time_of(text: str, unit: str = "") -> tuple[str, str]:
    """A TIME literal, and what was taken for granted; `unit` is that of the heading. Raises `ValueError`.

    >>> time_of("2,5"), time_of("500 ms"), time_of("00:01:30"), time_of("3", "ms")
    (('T#2s500ms', 'a time without a unit is in seconds'), ('T#500ms', ''), ('T#1m30s', ''), ('T#3ms', ''))
    """
    text = text.strip()
    clock = _CLOCK.fullmatch(text)
    if clock:
        hours, minutes, seconds = (int(clock[n] or 0) for n in (1, 2, 3))
        ms = int((clock[4] or "0").ljust(3, "0"))
        told = "" if clock[1] else f"{text} is taken as minutes and seconds"
        return time_text(((hours * 60 + minutes) * 60 + seconds) * 1000 + ms), told
    plain = text.lower().replace(",", ".").replace(" ", "")
    if _NUMBER.fullmatch(plain):
        told = "" if unit in _UNITS else "a time without a unit is in seconds"
        return time_text(round(float(plain) * _UNITS.get(unit, 1000))), told
    for long, short in (
        ("seconds", "s"),
        ("sekunden", "s"),
        ("sek", "s"),
        ("sec", "s"),
        ("minuten", "m"),
        ("minutes", "m"),
        ("std", "h"),
    ):
        plain = plain.removesuffix(long) + short if plain.endswith(long) else plain
    return time_text(duration_ms(plain)), ""


def address_of(text: str) -> str:
    """An address as it is written here: `%IX0.0` for `I0.0` and `E 0.0`; another text as it is."""
    found = _ADDRESS.fullmatch(text.strip())
    if found is None:
        return text
    area = {"E": "I", "A": "Q"}.get(found["area"].upper(), found["area"].upper())
    size = found["size"].upper() or ("X" if "." in found["at"] and not text.startswith("%") else "")
    return f"%{area}{size}{found['at']}"


def parts_of(cell: str) -> list[str]:
    """What stands between commas, semicolons, strokes, lines, *and* in a cell."""
    return [part for p in re.split(r"[,;/+\n]|\bund\b|\band\b", cell) if (part := p.strip())]


def switched(text: str) -> tuple[str, bool] | None:
    """What a text switches, and whether on or off; None for a text that says nothing of the kind.

    >>> switched("Klappe AUS"), switched("set Drum"), switched("Fan := 1"), switched("Wait")
    (('Klappe', False), ('Drum', True), ('Fan', True), None)
    """
    found = _SWITCHED.fullmatch(text.strip())
    if found is None:
        return None
    word = (found["first"] or found["last"] or found["value"]).lower()
    name = (found["named"] or found["name"]).strip()
    return (
        (name, word not in ("reset", "rücksetze", "ruecksetze", "off", "aus", "ausschalten", "0", "false"))
        if name
        else None
    )


def identifier(text: str, prefix: str = "S") -> str:
    """A name made of a heading or a description; empty where nothing of it can be one.

    >>> identifier("Kühlen an"), identifier("Valve-2"), identifier("AtTop"), identifier("2 mal")
    ('KuehlenAn', 'Valve2', 'AtTop', 'S2Mal')
    """
    words = re.findall(r"[A-Za-z0-9_]+", latin(text).encode("ascii", "ignore").decode())
    if not words:
        return ""
    name = words[0] if len(words) == 1 else "".join(w[:1].upper() + w[1:] for w in words)
    name = re.sub(r"_{2,}", "_", name).strip("_")[: LONGEST_NAME - 10]
    if name[:1].isdigit():
        name = prefix + name
    step = prefix == "S"
    if name and name_problem(name, step):
        name = f"{name}{'Step' if step else 'Signal'}"
    return name if name and not name_problem(name, step) else ""


def condition_of(text: str, names: Mapping[str, str]) -> tuple[str, dict[str, Type]] | None:
    """A condition as people write it, in structured text, and the names in it that are not known yet with the types they seem to
    have; None for prose. `names` are names and headings in lower case, with what each is called.

    >>> condition_of("gate closed UND NOT Stop", {"gate closed": "GateClosed"})
    ('GateClosed AND NOT Stop', {'Stop': <Type.BOOL: 'BOOL'>})
    >>> condition_of("Start button AND Level > 2,5", {})
    ('StartButton AND Level > 2.5', {'StartButton': <Type.BOOL: 'BOOL'>, 'Level': <Type.REAL: 'REAL'>})
    >>> condition_of("when the vat is hot enough", {}) is None
    True
    """
    known = {n.lower(): n for n in names.values()}
    spoken = _in_words(_with_names(text, names))
    for attempt in (text, spoken, _PHRASE.sub(_as_name, spoken)):
        try:
            tree = parse_expression(attempt)
        except TextError:
            continue
        tree = _switched(tree, known)
        new = {n: t for n, t in _names(tree) if n.lower() not in known}
        if isinstance(tree, sx.Literal) and tree.type is not Type.BOOL:
            return None
        if attempt is text and new and _with_names(text, names) != text:
            continue
        same = attempt is text and tree == parse_expression(text)
        return (text.strip() if same else expression_text(tree)), new
    return None


def _switched(tree: sx.Expression, known: Mapping[str, str]) -> sx.Expression:
    """`Switch = 1` and `Switch = 0` of a name that nobody knows yet, and `Switch = ON`, are what a switch is."""
    if isinstance(tree, sx.Binary) and tree.op == "=" and isinstance(tree.left, sx.Name) and len(tree.left.parts) == 1:
        other = tree.right
        on: bool | None = None
        if isinstance(other, sx.Literal) and other.type is None and other.value in (0, 1):
            on = bool(other.value)
        elif isinstance(other, sx.Name) and (word := str(other).lower()) not in known and word in _LEVELS:
            on = _LEVELS[word]
        if on is not None and (tree.left.parts[0].lower() not in known or isinstance(other, sx.Name)):
            return tree.left if on else sx.Unary("NOT", tree.left, tree.span)
    return sx.with_parts(tree, lambda part: _switched(part, known))


_LEVELS = {"on": True, "off": False, "ein": True, "an": True, "aus": False, "high": True, "low": False, "yes": True, "no": False, "ja": True,
           "nein": False}  # fmt: skip
"""What a switch is said to be, where nothing is called so."""
_PHRASE = re.compile(r"\b[A-Za-z_]\w*(?:[ \t-]+[A-Za-z_0-9]\w*)+")
_OPERATORS = frozenset(("AND", "OR", "NOT", "XOR", "MOD", "TRUE", "FALSE"))
MOST_WORDS = 3
"""Words of a description that may be the name of a signal; more are prose."""


def _as_name(found: re.Match[str]) -> str:
    """A few words between operators as one name, `Start button` as `StartButton`."""
    out: list[str] = []
    words: list[str] = []
    for word in (*found[0].replace("-", " ").split(), ""):
        if word and word.upper() not in _OPERATORS:
            words.append(word)
            continue
        if len(words) > 1 and len(words) <= MOST_WORDS:
            out.append(identifier(" ".join(words), "In"))
        else:
            out += words
        words = []
        out += [word] * bool(word)
    return " ".join(out)


def waits_only(text: str) -> str:
    """The time that a condition is nothing but, such as `after 5 s`; empty for another.

    >>> waits_only("nach 5 s"), waits_only("T#5s"), waits_only("AtTop"), waits_only("2..5 s")
    ('5 s', '5s', '', '')
    """
    found = _WAIT.fullmatch(re.sub(r"^(?:T|TIME)#", "", text.strip(), flags=re.IGNORECASE))
    if found is None:
        return ""
    try:
        time_of(found[1])
    except ValueError:
        return ""
    return found[1]


_PUT = re.compile(r"^(\s*\(*\s*)([^()]*[^()\s])(\s*\)*\s*)$")
"""A term with the parentheses that open before it or close behind it."""
_TERM = re.compile(r"(\s+(?:and|und|or|oder)\s+|\s*(?:&&?|\|\|?)\s*)", re.IGNORECASE)


def with_times(text: str, step: str) -> str:
    """A condition whose terms that are nothing but a time are that of the step; as it is where it is no such row of terms.

    >>> with_times("Gripped and t > 0,5 s", "Grip"), with_times("(Low OR (t > 5 s)) AND Up", "Grip")
    ('Gripped and Grip.T >= T#500ms', '(Low OR (Grip.T >= T#5s)) AND Up')
    """
    parts = _TERM.split(text)
    if len(parts) < 3 or re.search(r"\bxor\b", text, re.IGNORECASE):
        return text
    return "".join(_PUT.sub(lambda m: f"{m[1]}{_time_term(m[2], step)}{m[3]}", p) for p in parts)


def _time_term(text: str, step: str) -> str:
    time = waits_only(text)
    return f"{step}.T >= {time_of(time)[0]}" if time else text


def awaited(text: str, step: str) -> str:
    """A condition as it is typed for a way out of a step: a time alone is that of the step.

    >>> awaited("after 5 s", "Rest"), awaited("T#500ms", "Rest"), awaited("AtTop", "Rest")
    ('Rest.T >= T#5s', 'Rest.T >= T#500ms', 'AtTop')
    """
    time = waits_only(text)
    return f"{step}.T >= {typed_time(time)}" if time else text


def _with_names(text: str, names: Mapping[str, str]) -> str:
    """Headings and descriptions in a text, the longest first, as the names they have."""
    for spelt in sorted((n for n in names if " " in n or "-" in n or "." in n), key=len, reverse=True):
        text = re.sub(rf"(?<!\w){re.escape(spelt)}(?!\w)", names[spelt], text, flags=re.IGNORECASE)
    return text


def _in_words(text: str) -> str:
    """Operators of other languages in those of structured text, decimal commas as points, letters that names do not have."""
    text = re.sub(r"(?<=[0-9]),(?=[0-9])", ".", text)
    return "".join(_WORDS.get(w.lower(), latin(w)) for w in _WORD.findall(text))


def _names(tree: sx.Expression, other: sx.Expression | None = None) -> Iterator[tuple[str, Type]]:
    """The plain names of an expression, with the types that what they are compared with gives them."""
    if isinstance(tree, sx.Name) and len(tree.parts) == 1:
        kind = other.type or Type.INT if isinstance(other, sx.Literal) else Type.BOOL
        yield tree.parts[0], Type.INT if other is not None and not isinstance(other, sx.Literal) else kind
    elif isinstance(tree, sx.Binary) and tree.op in ("=", "<>", "<", ">", "<=", ">="):
        yield from _names(tree.left, tree.right)
        yield from _names(tree.right, tree.left)
    else:
        for part in sx.parts(tree):
            yield from _names(part)
