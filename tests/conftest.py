"""What all tests share: the shipped examples."""

from __future__ import annotations

import gc
import os
from pathlib import Path

import pytest
from hypothesis import Phase, settings

from spokeshave import COLLECT
from spokeshave.formats import spoke
from spokeshave.formats.spoke_schema import make_schema
from spokeshave.model.project import Project

gc.set_threshold(*COLLECT)

# Qt's import hook looks into modules that are imported after it; pydantic's lazy ones are complete once a schema is made.
make_schema()

# No test of behaviour fails by the clock: a property says what holds, never how long an example takes.
# Random machine files are built from one number, which cannot be made simpler: nothing is lost by not trying.
_PHASES = [p for p in Phase if p is not Phase.shrink]
# A run answers for the change it runs on, so its examples are the same each time; `./run-tests search` looks for new ones.
settings.register_profile("untimed", deadline=None, phases=_PHASES, derandomize=True)
settings.register_profile("search", deadline=None, phases=_PHASES, print_blob=True)
WANTED = os.environ.get("SPOKESHAVE_EXAMPLES", "untimed")
FEW = 4
settings.load_profile("untimed" if WANTED == "few" else WANTED)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """With few examples, for what only looks at which lines are reached: tracing makes each take five times as long."""
    for item in items if WANTED == "few" else ():
        function = getattr(item, "obj", None)
        own = getattr(function, "_hypothesis_internal_use_settings", None)
        if own is not None:
            function._hypothesis_internal_use_settings = settings(own, max_examples=min(FEW, own.max_examples))


EXAMPLES = Path(__file__).parent.parent / "src" / "spokeshave" / "examples"


@pytest.fixture(scope="session")
def roastery() -> Project:
    return spoke.read(EXAMPLES / "roastery.spoke")
