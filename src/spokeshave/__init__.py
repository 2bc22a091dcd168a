"""Spokeshave: design, simulate and prove machine sequences before the machine exists."""

__version__ = "0.1.0"
