"""Versions of a machine file: what differs between two in words of the trade, and three put together.

machine file ──tree──> what has a name, by name; fields as plain values ──compare──> differences ──words──> sentences
                                                          base, mine, theirs ──merge──> machine file, conflicts
"""

from __future__ import annotations


class VersionError(Exception):
    """What cannot be done with versions of a machine file."""
