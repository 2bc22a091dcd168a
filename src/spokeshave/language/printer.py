"""Syntax trees back into text, in one usual form. Printing and parsing again gives the same tree but for places."""

from __future__ import annotations

from spokeshave.language import syntax as sx
from spokeshave.language.literals import value_text
from spokeshave.model.project import Type

_STRENGTH = {
    "OR": 1, "XOR": 2, "AND": 3, "=": 4, "<>": 4, "<": 5, ">": 5, "<=": 5, ">=": 5, "+": 6, "-": 6, "*": 7, "/": 7,
    "MOD": 7, "**": 8,
}  # fmt: skip
_UNARY = 9


def expression_text(tree: sx.Expression, around: int = 0) -> str:
    """An expression with the parentheses it needs inside something that binds as strongly as `around`.

    >>> from spokeshave.language.parse import parse_expression
    >>> expression_text(parse_expression("not(a or b)and (c>3)"))
    'NOT (a OR b) AND c > 3'
    """
    match tree:
        case sx.Literal():
            if tree.type is None:
                return str(tree.value)
            text = value_text(tree.value, tree.type)
            return f"{tree.type}#{text}" if tree.type in (Type.INT, Type.DINT) else text
        case sx.Name():
            return str(tree)
        case sx.Element():
            return f"{tree.table}[{expression_text(tree.index)}]{''.join(f'.{m}' for m in tree.member)}"
        case sx.Call():
            given = (f"{a.name} := " * bool(a.name) + expression_text(a.value) for a in tree.arguments)
            return f"{tree.function}({', '.join(given)})"
        case sx.Unary():
            inner = expression_text(tree.operand, _UNARY)
            return f"NOT {inner}" if tree.op == "NOT" else f"{tree.op}{inner}"
        case sx.Binary():
            own = _STRENGTH[tree.op]
            # Operators group from the left, so the right side needs more strength than the operator itself.
            text = f"{expression_text(tree.left, own)} {tree.op} {expression_text(tree.right, own + 1)}"
            return f"({text})" if own < around else text


def statements_text(block: tuple[sx.Statement, ...], indent: str = "") -> str:
    """Statements, one a line, blocks indented by two spaces."""
    return "\n".join(_statement(s, indent) for s in block)


def _statement(s: sx.Statement, indent: str) -> str:
    deeper = indent + "  "

    def block(inner: tuple[sx.Statement, ...]) -> str:
        return statements_text(inner, deeper) + "\n" if inner else ""

    match s:
        case sx.Assign():
            return f"{indent}{expression_text(s.target)} := {expression_text(s.value)};"
        case sx.If():
            out = ""
            for n, (condition, inner) in enumerate(s.branches):
                out += f"{indent}{'ELSIF' if n else 'IF'} {expression_text(condition)} THEN\n{block(inner)}"
            if s.otherwise:
                out += f"{indent}ELSE\n{block(s.otherwise)}"
            return f"{out}{indent}END_IF;"
        case sx.Case():
            out = f"{indent}CASE {expression_text(s.selector)} OF\n"
            for labels, inner in s.branches:
                heads = (
                    expression_text(a) if a == b else f"{expression_text(a)}..{expression_text(b)}" for a, b in labels
                )
                out += f"{deeper}{', '.join(heads)}:\n{statements_text(inner, deeper + '  ')}\n"
            if s.otherwise:
                out += f"{indent}ELSE\n{block(s.otherwise)}"
            return f"{out}{indent}END_CASE;"
        case sx.For():
            by = f" BY {expression_text(s.step)}" if s.step is not None else ""
            head = f"FOR {s.variable} := {expression_text(s.start)} TO {expression_text(s.end)}{by} DO"
            return f"{indent}{head}\n{block(s.body)}{indent}END_FOR;"
        case sx.Loop():
            test = expression_text(s.condition)
            if s.first:
                return f"{indent}WHILE {test} DO\n{block(s.body)}{indent}END_WHILE;"
            return f"{indent}REPEAT\n{block(s.body)}{indent}UNTIL {test} END_REPEAT;"
        case sx.Jump():
            return f"{indent}{s.kind};"
        case sx.BlockCall():
            given = [f"{a.name} := {expression_text(a.value)}" for a in s.inputs] + [
                f"{n} => {expression_text(t)}" for n, t in s.outputs
            ]
            return f"{indent}{s.instance}({', '.join(given)});"
