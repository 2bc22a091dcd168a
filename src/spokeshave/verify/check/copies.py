"""Rules on copies of a unit: one that is not as its template, and one that reads what another has of its own."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.language.unit_deviations import deviations
from spokeshave.language.units import copied_name
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.verify.check.look import Look, warning


def copy_otherwise(look: Look) -> Iterator[Diagnostic]:
    """A copy that is not as its template has it: most often one that a change was forgotten in."""
    for u in look.project.units:
        for prefix in u.copies:
            if found := deviations(look.project, u, prefix):
                more = f", and {len(found) - 1} more" if len(found) > 1 else ""
                yield warning("copy-otherwise", found[0].place, f"copy {prefix} of {u.name} is not as the template: {found[0].text}{more}",
                              "take the template over in Signals, Units, or waive it with the reason")  # fmt: skip


def other_copy(look: Look) -> Iterator[Diagnostic]:
    """A sequence of one copy of a unit that reads a signal which another copy has of its own."""
    for u in look.project.units:
        prefixes = (u.prefix, *u.copies)
        owner = {copied_name(u, p, n).lower(): p for p in prefixes for n in u.signals}
        of = {copied_name(u, p, n).lower(): p for p in prefixes for n in u.sequences}
        for name, prefix in owner.items():
            for use in look.used(name, "read"):
                here = of.get(use.place.sequence.lower(), prefix)
                if here != prefix:
                    signal = look.project.signal(name)
                    told = signal.name if signal is not None else name
                    own = copied_name(u, here, next(n for n in u.signals if copied_name(u, prefix, n).lower() == name))
                    yield warning("other-copy", use.place, f"{told} is of another copy of {u.name}",
                                  f"read {own}, if it is its own that is meant")  # fmt: skip


RULES = (copy_otherwise, other_copy)
