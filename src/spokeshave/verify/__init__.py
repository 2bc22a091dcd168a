"""The proof: static check, scenarios with verdicts, the acceptance record.

Everything here is computed from a machine file alone and can run without a desktop. Not here: Qt.
"""

from spokeshave.model.diagnostics import Told


class VerifyError(Told, ValueError):
    """The root of the errors of this package."""
