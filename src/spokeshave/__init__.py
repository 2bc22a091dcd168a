"""Spokeshave: design, simulate and prove machine sequences before the machine exists."""

__version__ = "0.1.0"

COLLECT = (20_000, 20, 50)
"""How often what is in circles is looked for (`gc.set_threshold`): a machine file is many small values and hardly any circles,
and looking through them as often as usual takes a fifth of the time.
"""
