"""Modbus TCP in front of a run: an outside machine, an outside controller, or an onlooker.

The address map is made from the signals; what a client may write is limited to it. Requests are answered from the image
of the last scan, and what is written is taken in before the next one, so that no client can disturb a scan.
Not here: Qt, files.
"""

import logging

from spokeshave.model.diagnostics import Told

# What goes wrong on a line is told by whoever uses it; the library's own lines would come between.
logging.getLogger("pymodbus").addHandler(logging.NullHandler())
logging.getLogger("pymodbus.logging").setLevel(logging.CRITICAL)


class FieldbusError(Told):
    """The root of the errors of this package."""
