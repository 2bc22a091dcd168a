"""Structured text of IEC 61131-3: grammar, syntax trees with positions, type checker, compiler.

Text becomes a syntax tree (`parse`), a checked tree (`check`) and a Python code object (`compile`), in this order.
Nothing from a file is ever run as Python text. Not here: how a scan runs, or where a name's value comes from;
a `Scope` tells the checker what names mean.
"""

from spokeshave.model.diagnostics import Told


class LanguageError(Told):
    """The root of the errors of this package."""
