"""Versions of a machine file put together, laid side by side, and as a text to compare by lines.

base, mine, theirs ──merge──> machine file, conflicts          two sequences ──sheets──> one sheet of both
"""

from __future__ import annotations


class VersionError(Exception):
    """What cannot be done with versions of a machine file."""
