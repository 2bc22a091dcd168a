"""The kinds of devices as a page of the documentation."""

from __future__ import annotations

from spokeshave.machine.kinds import KINDS
from spokeshave.model.project import Type


def kinds_page() -> str:
    """Markdown with terminals, parameters and failures of every kind."""
    out = ["# Kinds of devices", "", "Written by `scripts/schema` from the kinds themselves.", ""]
    for kind in KINDS.values():
        if kind.kind == "own":
            continue
        out += [f"## {kind.title} (`{kind.kind}`)", "", "| terminal | is | type | |", "|---|---|---|---|"]
        for t in kind.terminals:
            out.append(f"| `{t.name}` | {'drive' if t.drive else 'sensor'} | {_type(t.type, t.drive)} | {t.note} |")
        if kind.parameters:
            out += ["", "| parameter | unit | usual | |", "|---|---|---|---|"]
            for p in kind.parameters:
                usual = ("yes" if p.default else "no") if p.flag else f"{p.default:g}"
                out.append(f"| `{p.name}` | {p.unit} | {usual} | {p.note} |")
        out += ["", f"Failures: {', '.join(kind.failures) or 'none'}.", ""]
    return "\n".join(out)


def _type(kind: Type, drive: bool) -> str:
    return "a number" if kind is Type.REAL and drive else kind.value
