"""The static check: one small module a family of rules; `findings` runs them all.

A rule is a function of a `Look` (the project with what is known of it) that yields diagnostics. A new rule is a
function in its family's module and an entry in that module's `RULES`.
"""

from spokeshave.verify.check.run import every_finding, findings, look_over

__all__ = ["every_finding", "findings", "look_over"]
