"""Scenarios against a controller outside: the machine stand-in is the machine, and the model runs beside as the reference.

    line       outputs read and inputs written over Modbus TCP, and how long the way takes; node_line does it over OPC UA
    lanes      what the controller does laid beside what the model asks for: the first difference
    against    a scenario in the time of the clock, or as fast as a controller that counts our scans
    elsewhere  the same for a process

Nothing is written but the inputs of the address map, and those settings that the file lets a client write.
Not here: Qt, files.
"""

from spokeshave.model.diagnostics import Told


class ControllerError(Told):
    """The root of the errors of this package."""
