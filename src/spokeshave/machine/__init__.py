"""The machine stand-in: devices that answer the outputs, in closed form (semantics section 10).

A device's state is a small tuple that changes only when its drives, its failures or the operator's hand change;
what it shows at scan `k` is computed from that state and `k`, never added up.
Not here: sequences, signals' values, scans. The engine wires terminals to signals.
"""

from spokeshave.model.diagnostics import Told


class MachineError(Told, ValueError):
    """The root of the errors of this package."""
