"""TYPE, STRUCT and ARRAY of an IEC text: tables with their initial values (IEC 61131-3, 6.4.4)."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.formats.iec_variables import VariableReader
from spokeshave.language.literals import value_text
from spokeshave.language.tokens import INT, NAME
from spokeshave.model.project import Column, SignalClass, Table, Type, Value, zero_of
from spokeshave.model.signals import MOST_CELLS

PLAIN = "a table has plain values in its columns"


@dataclass(frozen=True, slots=True)
class Struct:
    """A STRUCT: its columns, and the values of a row that says nothing else."""

    name: str
    columns: tuple[Column, ...]
    start: tuple[Value, ...]


@dataclass
class TableReader(VariableReader):
    """Reads declarations of types and of variables with many values."""

    structs: dict[str, Struct] = field(default_factory=dict)
    tables: dict[str, Table] = field(default_factory=dict)

    def type_block(self) -> None:
        """`TYPE Row : STRUCT ... END_STRUCT; END_TYPE`, several in one too."""
        p = self.parser
        p.take("TYPE")
        while not p.skip("END_TYPE"):
            name_at = p.name_at("the name of a type")
            p.take(":")
            if self.next != "STRUCT":
                raise self.fail(p.at, "a type that is no STRUCT and no list of names is not supported",
                                "write the type where the variable is declared")  # fmt: skip
            p.at += 1
            self.structs[self.tokens.word(name_at).lower()] = self._struct(self.tokens.word(name_at))
            p.skip(";")

    def _struct(self, name: str) -> Struct:
        p = self.parser
        columns: list[Column] = []
        start: list[Value] = []
        while not p.skip("END_STRUCT"):
            names = [p.name_at("a name or END_STRUCT")]
            while p.skip(","):
                names.append(p.name_at())
            p.take(":")
            type_at = p.at
            of = self._plain_type(PLAIN)
            value = self._value(of) if p.skip(":=") else zero_of(of)
            p.take(";", "a semicolon")
            for i in names:
                if any(c.name.lower() == self.tokens.word(i).lower() for c in columns):
                    raise self.fail(i, f"{self.tokens.word(i)} is declared twice in {name}")
                columns.append(Column(self.tokens.word(i), of))
                start.append(value)
            if len(columns) > 1000:
                raise self.fail(type_at, "this STRUCT has more than 1000 members")
        return Struct(name, tuple(columns), tuple(start))

    def _plain_type(self, advice: str) -> Type:
        if self.next != NAME:
            raise self.fail(self.parser.at, f"{self.next} is not supported here", advice)
        at = self.parser.name_at("a type")
        word = self.tokens.word(at)
        try:
            return self.foreign.get(word.upper()) or Type(word.upper())
        except ValueError:
            raise self.fail(at, f"type {word} is not supported here", advice) from None

    def has_many(self) -> bool:
        """Whether the type that comes next has many values."""
        return self.next == "ARRAY" or self.tokens.word(self.parser.at).lower() in self.structs

    def table(self, kind: str, options: set[str], names: list[int]) -> None:
        """The type and the initial values of a declaration whose names are read."""
        p = self.parser
        type_at, first, last, indexed = p.at, 1, 1, p.skip("ARRAY")
        if indexed:
            p.take("[", "[ and the first row")
            first = self._bound()
            p.take("..", ".. and the last row")
            last = self._bound()
            if self.next == ",":
                raise self.fail(
                    p.at, "a table has one index here", "use a STRUCT for the columns, or one table for each"
                )
            p.take("]")
            p.take("OF")
        struct = self.structs.get(self.tokens.word(p.at).lower()) if self.next == NAME else None
        if struct is None:
            of = self._plain_type(PLAIN)
            struct = Struct("", (Column("", of),), (zero_of(of),))
        else:
            p.at += 1
        columns, usual, row_type = struct.columns, struct.start, struct.name
        if last < first:
            raise self.fail(type_at, f"the range {first}..{last} is empty", "write the lower row first")
        if (last - first + 1) * len(columns) > MOST_CELLS:
            raise self.fail(type_at, f"this table has more than {MOST_CELLS:_} values")
        rows = [usual] * (last - first + 1)
        if p.skip(":="):
            given = self._rows(columns, usual, len(rows)) if indexed else [self._row(columns, usual)]
            rows[: len(given)] = given
        end = p.take(";", "a semicolon")
        if kind in ("VAR_INPUT", "VAR_OUTPUT"):
            raise self.fail(type_at, f"{'an input' if kind == 'VAR_INPUT' else 'an output'} is one value here",
                            "declare a signal for each, and copy them in opening or closing logic")  # fmt: skip
        cls = SignalClass.SETTING if "CONSTANT" in options else SignalClass.INTERNAL
        for i in names:
            name = self.tokens.word(i)
            if kind == "VAR_EXTERNAL":
                self.external.append(i)
                continue
            if name.lower() in {*self.signals, *self.instances, *self.tables}:
                raise self.fail(i, f"{name} is declared twice", "declare it once, in VAR_GLOBAL if programs share it")
            self.origin("table", "", name, i)
            self.tables[name.lower()] = Table(
                name, cls, columns, tuple(rows), first, row_type, indexed, "RETAIN" in options, self.comment_behind(end)
            )  # fmt: skip

    def _bound(self) -> int:
        p = self.parser
        minus = p.skip("-")
        if self.next == NAME:
            at = p.name_at()
            s = self.signals.get(self.tokens.word(at).lower())
            if (
                s is None
                or s.initial is None
                or s.cls is not SignalClass.SETTING
                or s.type not in (Type.INT, Type.DINT)
            ):
                raise self.fail(at, f"{self.tokens.word(at)} is no constant number", "declare it before, as CONSTANT")
            return -int(s.initial) if minus else int(s.initial)
        digits = self.tokens.word(p.take(INT, "a whole number"))
        if len(digits) > 9:
            raise self.fail(p.at - 1, "this row has too large a number")
        return (-1 if minus else 1) * int(digits.replace("_", ""))

    # -- initial values

    def _value(self, of: Type) -> Value:
        """An initial value: a literal, or a constant of the text."""
        first = self.parser.at
        self.parser.expression()
        text = self.between(first - 1, self.parser.at)
        s = self.signals.get(text.lower())
        if s is not None and s.cls is SignalClass.SETTING and s.type is of:
            return s.start
        return self.initial(first - 1, self.parser.at, of)

    def _rows(self, columns: tuple[Column, ...], usual: tuple[Value, ...], most: int) -> list[tuple[Value, ...]]:
        """`[a, b, 3(c)]`"""
        p = self.parser
        p.take("[", "[ and the values of the rows")
        out: list[tuple[Value, ...]] = []
        while self.next != "]":
            at, again = p.at, 1
            if self.next == INT and p.kinds[p.at + 1] == "(":
                again = int(self.tokens.word(p.at).replace("_", "")[:9])
                p.at += 2
                row = self._row(columns, usual)
                p.take(")")
            else:
                row = self._row(columns, usual)
            if len(out) + again > most:
                raise self.fail(at, f"there are more values than the {most} rows")
            out += [row] * again
            if not p.skip(","):
                break
        p.take("]", "] behind the last row")
        return out

    def _row(self, columns: tuple[Column, ...], usual: tuple[Value, ...]) -> tuple[Value, ...]:
        """`(Out := TRUE, Lasts := T#2s)`, or one plain value."""
        p = self.parser
        if not columns[0].name:
            return (self._value(columns[0].type),)
        row = list(usual)
        p.take("(", "( and the values by their names")
        while self.next != ")":
            at = p.name_at("the name of a column")
            n = next((n for n, c in enumerate(columns) if c.name.lower() == self.tokens.word(at).lower()), None)
            if n is None:
                raise self.fail(at, f"there is no column {self.tokens.word(at)}", ", ".join(c.name for c in columns))
            p.take(":=")
            row[n] = self._value(columns[n].type)
            if not p.skip(","):
                break
        p.take(")")
        return tuple(row)


def types_text(tables: tuple[Table, ...]) -> str:
    """The TYPE declarations of tables, one for each kind of row."""
    kinds = {t.row_type.lower(): t for t in tables if t.row_type}
    out = ""
    for t in kinds.values():
        members = "".join(f"    {c.name} : {c.type};\n" for c in t.columns)
        out += f"TYPE {t.row_type} :\n  STRUCT\n{members}  END_STRUCT;\nEND_TYPE\n"
    return out


def table_declaration(t: Table) -> str:
    """`Pattern : ARRAY [1..3] OF Row := [(Out := TRUE, Lasts := T#2s), ...];`"""
    kind = t.row_type or str(t.columns[0].type)
    array = f"ARRAY [{t.first}..{t.last}] OF {kind}" if t.indexed else kind
    rows = [_row_text(t, row) for row in t.rows]
    if all(row == tuple(zero_of(c.type) for c in t.columns) for row in t.rows):
        return f"{t.name} : {array};"
    separator = ",\n    " if t.row_type and t.indexed else ", "
    values = f"[{separator.join(rows)}]" if t.indexed else rows[0]
    return f"{t.name} : {array} := {values};"


def _row_text(t: Table, row: tuple[Value, ...]) -> str:
    if not t.row_type:
        return value_text(row[0], t.columns[0].type)
    return f"({', '.join(f'{c.name} := {value_text(v, c.type)}' for c, v in zip(t.columns, row))})"
