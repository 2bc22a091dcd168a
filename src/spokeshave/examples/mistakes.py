"""The planted mistakes of the examples, by the name of the example."""

from __future__ import annotations

from spokeshave.examples.carousel_mistakes import CAROUSEL
from spokeshave.examples.lock_mistakes import LOCK
from spokeshave.examples.planting import Mistake as Mistake
from spokeshave.examples.planting import planted as planted
from spokeshave.examples.roastery_mistakes import ROASTERY

MISTAKES: dict[str, tuple[Mistake, ...]] = {"roastery": ROASTERY, "lock": LOCK, "carousel": CAROUSEL}
