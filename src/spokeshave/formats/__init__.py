"""A module a format, reader beside writer: machine files, IEC text, stimuli and traces.

Readers give a whole value or raise `FormatError` with a place; they change nothing. Not here: running anything.
"""
