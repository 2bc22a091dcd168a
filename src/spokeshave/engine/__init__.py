"""One scan, phase by phase (semantics section 3), and what is made of scans: runs, sessions, traces.

`link` turns a machine file into a `Program`; a `Situation` is everything that changes from scan to scan; `scan`
takes one step. A run is a pure function of machine file, stimuli and scan count.
Not here: files, Qt, the wall clock.
"""

from spokeshave.model.diagnostics import Told


class EngineError(Told):
    """The root of the errors of this package."""
