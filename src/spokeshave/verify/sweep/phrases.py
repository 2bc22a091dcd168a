"""What a cell says, as sentences with names in them that are written and read again from one text each."""

from __future__ import annotations

import re


class Phrase:
    """A sentence with names in braces.

    >>> Phrase("{step} was left with {device} on its way").read("Main.Up was left with Arm on its way, and no alarm tells of it")
    {'step': 'Main.Up', 'device': 'Arm'}
    """

    def __init__(self, text: str) -> None:
        self.text = text
        parts = re.split(r"\{(\w+)\}", text)
        pattern = "".join(re.escape(p) if n % 2 == 0 else f"(?P<{p}>[^;:]+?)" for n, p in enumerate(parts))
        self._pattern = re.compile(rf"(?:^|: |; ){pattern}(?=$|, and no alarm|; |,)")

    def say(self, **names: object) -> str:
        """The sentence with these names."""
        return self.text.format(**names)

    def read(self, text: str) -> dict[str, str] | None:
        """The names in a text that says this, or None."""
        found = self._pattern.search(text)
        return None if found is None else found.groupdict()


LEFT = Phrase("{step} was left with {device} not where it belongs")
WAITS = Phrase("{step} waits on {terms}")
ON = Phrase("{output} is on at {ms} ms {why}")
WHILE_PRESSED = Phrase("while {stop} is pressed")
PRESSED = Phrase(ON.text.replace("{why}", WHILE_PRESSED.text))
STANDS = Phrase("after the reset it stands in {steps}")
