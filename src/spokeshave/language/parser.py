"""Words into syntax trees: expressions by the strength of their operators, statements one behind the other.

The grammar is `structured_text.lark`; what this parser takes is what the grammar says (a property holds both together).
"""

from __future__ import annotations

from spokeshave.language import LanguageError
from spokeshave.language import syntax as sx
from spokeshave.language.functions import CONVERSIONS, FUNCTIONS
from spokeshave.language.literals import real_number, time_ms
from spokeshave.language.settle import DEEPEST_BLOCK, DEEPEST_LOOP, LONG, expression_too_deep, settled, too_deep
from spokeshave.language.tokens import BASED, DEEPEST, INT, NAME, REAL, TIME, TYPED, Tokens
from spokeshave.model.diagnostics import quoted
from spokeshave.model.project import Type

LONGEST = 20_000
"""Words of one expression."""
MOST_OPEN = DEEPEST + 50
"""Operators and parentheses that may wait for what stands in them: the deepest parentheses, with every operator inside."""
LONGEST_NUMBER = 64
"""Digits of a whole number; no type has room for as many."""

_POWER = {
    "OR": 1, "XOR": 2, "AND": 3, "&": 3, "=": 4, "<>": 4, "<": 5, ">": 5, "<=": 5, ">=": 5, "+": 6, "-": 6, "*": 7, "/": 7,
    "MOD": 7, "**": 8,
}  # fmt: skip
"""How strongly an operator binds."""
_STANDARD = frozenset((*FUNCTIONS, *CONVERSIONS, "RISING", "FALLING", "HELD"))
"""Functions whose names are written in capitals; one of the file's own is written as it is."""
_LABELS = (INT, BASED, TYPED, "-")


class DoesNotFit(LanguageError):
    """A word the grammar has no place for; `at` is its number, `wanted` what could stand there."""

    def __init__(self, at: int, wanted: str) -> None:
        super().__init__(wanted)
        self.at, self.wanted = at, wanted


class BadWord(sx.TextError):
    """A word that is well placed but means nothing, such as a number too large."""


class Parser:
    """Reads expressions and statements from word `at` on; `at` moves behind what was read.

    Raises `DoesNotFit` and `TextError`.
    """

    def __init__(self, tokens: Tokens, at: int = 0) -> None:
        self.tokens, self.at = tokens, at
        self.kinds = tokens.kinds
        self._blocks = self._loops = self._last = self._open = 0

    # -- words

    def take(self, kind: str, wanted: str = "") -> int:
        """The number of the next word, which must be of this kind."""
        if self.kinds[self.at] != kind:
            raise DoesNotFit(self.at, wanted or kind)
        self.at += 1
        return self.at - 1

    def skip(self, kind: str) -> bool:
        """Whether the next word is of this kind; then it is behind us."""
        if self.kinds[self.at] != kind:
            return False
        self.at += 1
        return True

    def name(self) -> str:
        """A name, as it is written."""
        return self.tokens.word(self.name_at())

    def name_at(self, wanted: str = "a name") -> int:
        """The number of the next word, which must be a name."""
        i = self.take(NAME, wanted)
        if self.tokens.ends[i] - self.tokens.starts[i] > sx.LONGEST_NAME:
            raise self._bad(i, "this name is too long", f"names have at most {sx.LONGEST_NAME} characters")
        return i

    def _bad(self, first: int, message: str, advice: str = "") -> BadWord:
        return BadWord([sx.Problem.at(self.tokens.span(first, self.at), message, advice)])

    # -- expressions

    def expression(self) -> sx.Expression:
        """An expression, settled."""
        first = self.at
        self._last = first + LONGEST
        found = self._operators(1)
        return settled(found) if self.at - first > LONG else found

    def _operators(self, least: int) -> sx.Expression:
        """Operands with operators that bind at least so strongly between them, from the left."""
        first, kinds, tokens = self.at, self.kinds, self.tokens
        self._open += 1
        if self._open > MOST_OPEN:
            raise expression_too_deep(tokens.span(first, first + 1))
        left = self._operand()
        while (power := _POWER.get(op := kinds[self.at], 0)) >= least:
            self.at += 1
            right = self._operators(power + 1)
            left = sx.Binary("AND" if op == "&" else op, left, right, tokens.span(first, self.at))
        self._open -= 1
        return left

    def _operand(self) -> sx.Expression:
        first = self.at
        while self.kinds[self.at] in ("NOT", "-", "+"):
            self.at += 1
        signs, i = self.at - first, self.at
        if signs > DEEPEST:
            raise expression_too_deep(self.tokens.span(first, self.at))
        kind = self.kinds[i]
        if i > self._last:
            long = "this is too long for one expression"
            raise sx.TooMuch([sx.Problem.at(self.tokens.span(i, i + 1), long, "use internals for its parts")])
        found: sx.Expression
        if kind == NAME:
            found = self._call() if self.kinds[i + 1] == "(" else self.variable()
        elif kind == "(":
            self.at += 1
            found = self._operators(1)
            self.take(")")
        else:
            found = self._literal(kind)
        for n in reversed(range(signs)):
            found = sx.Unary(self.kinds[first + n], found, self.tokens.span(first + n, self.at))
        return found

    def variable(self) -> sx.Target:
        """`Name`, `Name.Name` and so on, `Name[Index].Name`."""
        first = self.at
        parts = [self.name()]
        index: sx.Expression | None = None
        before = 0
        while True:
            if self.skip("."):
                parts.append(self.name())
            elif self.kinds[self.at] == "[":
                if index is not None:
                    raise self._bad(self.at, "a second index", "a table has one index; use a table of its own")
                self.at += 1
                index = self._operators(1)
                self.take("]", "] behind the index")
                if (fixed := _fixed(index)) is not None:
                    parts[-1] += f"[{fixed}]"
                before = len(parts)
            else:
                break
        if index is None or _fixed(index) is not None:
            return sx.Name(tuple(parts), self.tokens.span(first, self.at))
        table = sx.Name(tuple(parts[:before]), self.tokens.span(first, first + 1))
        return sx.Element(table, index, tuple(parts[before:]), self.tokens.span(first, self.at))

    def _call(self) -> sx.Call:
        first = self.at
        name = self.name()
        self.take("(")
        arguments: list[sx.Argument] = []
        while self.kinds[self.at] != ")" or arguments:
            word = ""
            if self.kinds[self.at] == NAME and self.kinds[self.at + 1] == ":=":
                word = self.name()
                self.at += 1
            arguments.append(sx.Argument(word, self._operators(1)))
            if not self.skip(","):
                break
        self.take(")")
        word = name.upper() if name.upper() in _STANDARD else name
        return sx.Call(word, tuple(arguments), self.tokens.span(first, self.at))

    def _literal(self, kind: str, first: int = -1) -> sx.Literal:
        """The literal that comes next; `first` is the word it begins with where a sign stands before it."""
        i = self.at
        if kind not in ("TRUE", "FALSE", INT, REAL, TIME, TYPED, BASED):
            raise DoesNotFit(i, "a value, a name or a condition")
        self.at += 1
        span = self.tokens.span(i if first < 0 else first, self.at)
        if kind in ("TRUE", "FALSE"):
            return sx.Literal(kind == "TRUE", Type.BOOL, span)
        text = self.tokens.word(i)
        try:
            if kind == TIME:
                return sx.Literal(time_ms(text), Type.TIME, span)
            text = text.replace("_", "")
            if kind == REAL:
                return sx.Literal(real_number(text), Type.REAL, span)
            return _typed(text, span) if kind == TYPED else sx.Literal(_integer(text), None, span)
        except ValueError as error:
            raise self._bad(i, str(error)) from None

    # -- statements

    def statements(self, in_case: bool = False) -> tuple[sx.Statement, ...]:
        """Statements, each with its semicolon, up to a word that begins none; `in_case` up to a label too."""
        if self._blocks > DEEPEST_BLOCK:
            raise too_deep(
                self.tokens.span(self.at, self.at + 1), "statements nest", DEEPEST_BLOCK, "use internals, or a body of its own"
            )  # fmt: skip
        self._blocks += 1
        found: list[sx.Statement] = []
        while True:
            if self.skip(";"):
                continue
            statement = None if in_case and self._at_label() else self._statement()
            if statement is None:
                self._blocks -= 1
                return tuple(found)
            found.append(statement)
            self.take(";", "a semicolon")

    def _at_label(self) -> bool:
        kind = self.kinds[self.at]
        return kind in _LABELS or (kind == NAME and self.kinds[self.at + 1] in (":", "..", ","))

    def _statement(self) -> sx.Statement | None:
        first = self.at
        kind = self.kinds[first]
        if kind == NAME:
            if self.kinds[first + 1] == "(":
                return self._block_call()
            self._last = first + LONGEST  # of the index, if it has one
            target = self.variable()
            self.take(":=")
            value = self.expression()
            return sx.Assign(target, value, self.tokens.span(first, self.at))
        if kind == "IF":
            return self._if()
        if kind == "CASE":
            return self._case()
        if kind == "FOR":
            return self._for()
        if kind == "WHILE":
            self.at += 1
            condition = self.expression()
            self.take("DO")
            body = self._loop_body(first)
            self.take("END_WHILE")
            return sx.Loop(condition, body, True, self.tokens.span(first, self.at))
        if kind == "REPEAT":
            self.at += 1
            body = self._loop_body(first)
            self.take("UNTIL")
            condition = self.expression()
            self.take("END_REPEAT")
            return sx.Loop(condition, body, False, self.tokens.span(first, self.at))
        if kind in ("EXIT", "RETURN"):
            self.at += 1
            return sx.Jump(kind, self.tokens.span(first, self.at))
        return None

    def _loop_body(self, first: int) -> tuple[sx.Statement, ...]:
        self._loops += 1
        if self._loops > DEEPEST_LOOP:
            raise too_deep(
                self.tokens.span(first, first + 1), "loops nest", DEEPEST_LOOP, "one loop can count what two would"
            )
        body = self.statements()
        self._loops -= 1
        return body

    def _if(self) -> sx.If:
        first = self.at
        branches: list[tuple[sx.Expression, tuple[sx.Statement, ...]]] = []
        while self.skip("ELSIF" if branches else "IF"):
            condition = self.expression()
            self.take("THEN")
            branches.append((condition, self.statements()))
        otherwise = self.statements() if self.skip("ELSE") else ()
        self.take("END_IF")
        return sx.If(tuple(branches), otherwise, self.tokens.span(first, self.at))

    def _case(self) -> sx.Case:
        first = self.at
        self.at += 1
        selector = self.expression()
        self.take("OF")
        branches: list[
            tuple[tuple[tuple[sx.Literal | sx.Name, sx.Literal | sx.Name], ...], tuple[sx.Statement, ...]]
        ] = []
        while not branches or self._at_label():
            labels = [self._label()]
            while self.skip(","):
                labels.append(self._label())
            self.take(":")
            branches.append((tuple(labels), self.statements(in_case=True)))
        otherwise = self.statements() if self.skip("ELSE") else ()
        self.take("END_CASE")
        return sx.Case(selector, tuple(branches), otherwise, self.tokens.span(first, self.at))

    def _label(self) -> tuple[sx.Literal | sx.Name, sx.Literal | sx.Name]:
        low = self._label_value()
        return (low, self._label_value() if self.skip("..") else low)

    def _label_value(self) -> sx.Literal | sx.Name:
        first = self.at
        if self.kinds[first] == NAME:
            return sx.Name((self.name(),), self.tokens.span(first, self.at))
        negative = self.skip("-")
        if self.kinds[self.at] not in (INT, BASED, TYPED):
            raise DoesNotFit(self.at, "a whole number or a name and a colon")
        found = self._literal(self.kinds[self.at], first)
        return sx.Literal(-int(found.value), found.type, found.span) if negative else found

    def _for(self) -> sx.For:
        first = self.at
        self.at += 1
        variable = sx.Name((self.name(),), self.tokens.span(first + 1, self.at))
        self.take(":=")
        start = self.expression()
        self.take("TO")
        end = self.expression()
        step = self.expression() if self.skip("BY") else None
        self.take("DO")
        body = self._loop_body(first)
        self.take("END_FOR")
        return sx.For(variable, start, end, step, body, self.tokens.span(first, self.at))

    def _block_call(self) -> sx.BlockCall:
        first = self.at
        name = self.name()
        self.take("(")
        inputs: list[sx.Argument] = []
        outputs: list[tuple[str, sx.Target]] = []
        while self.kinds[self.at] != ")" or inputs or outputs:
            word = self.name()
            if self.skip("=>"):
                outputs.append((word, self.variable()))
            else:
                self.take(":=")
                inputs.append(sx.Argument(word, self.expression()))
            if not self.skip(","):
                break
        self.take(")")
        span = self.tokens.span(first, self.at)
        return sx.BlockCall(sx.Name((name,), span), tuple(inputs), tuple(outputs), span)


def _fixed(index: sx.Expression) -> int | None:
    """The whole number that an index is, None for one that is worked out."""
    if isinstance(index, sx.Unary) and index.op == "-" and isinstance(index.operand, sx.Literal):
        inner = _fixed(index.operand)
        return None if inner is None else -inner
    whole = isinstance(index, sx.Literal) and index.type in (None, Type.INT, Type.DINT)
    return int(index.value) if whole and isinstance(index, sx.Literal) else None


def _typed(text: str, span: sx.Span) -> sx.Literal:
    name, _, rest = text.partition("#")
    kind = Type(name.upper())
    if kind is Type.REAL:
        return sx.Literal(real_number(rest), kind, span)
    value = {"TRUE": 1, "FALSE": 0}.get(rest.upper()) if kind is Type.BOOL else None
    number = _integer(rest) if value is None else value
    return sx.Literal(bool(number) if kind is Type.BOOL else number, kind, span)


def _integer(text: str) -> int:
    base, mark, digits = text.rpartition("#")
    if len(digits) > LONGEST_NUMBER:
        raise ValueError(f"{quoted(text)} does not fit in 32 bits")
    try:
        return int(digits, int(base) if mark else 10)
    except ValueError:
        raise ValueError(f"{quoted(text)} is not a number") from None
