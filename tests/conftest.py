"""What all tests share: the shipped examples."""

from __future__ import annotations

import gc
import os
from functools import cache
from pathlib import Path

import pytest
import typer.main
import typer.testing
from hypothesis import Phase, settings

from spokeshave import COLLECT
from spokeshave.formats import spoke
from spokeshave.formats.spoke_schema import make_schema
from spokeshave.model.project import Project

gc.set_threshold(*COLLECT)

# Qt's import hook looks into modules that are imported after it; pydantic's lazy ones are complete once a schema is made.
make_schema()

# The commands of an application are the same each time it is called.
typer.testing._get_command = cache(typer.main.get_command)

# No test of behaviour fails by the clock: a property says what holds, never how long an example takes.
# Random machine files are built from one number, which cannot be made simpler: nothing is lost by not trying.
_PHASES = [p for p in Phase if p is not Phase.shrink]
# A run answers for the change it runs on, so its examples are the same each time; `./run-tests search` looks for new ones.
# Those are a part of what a property asks for, that the run answers within minutes; a search takes all of them.
PART = 0.2
AT_LEAST = 8
settings.register_profile("untimed", deadline=None, phases=_PHASES, derandomize=True, max_examples=round(100 * PART))
settings.register_profile("search", deadline=None, phases=_PHASES, print_blob=True)
WANTED = os.environ.get("SPOKESHAVE_EXAMPLES", "untimed")
FEW = 4
settings.load_profile("untimed" if WANTED == "few" else WANTED)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """A part of the examples of each property. With `few` nearly none, for what only looks at which lines are reached: tracing
    makes each take five times as long.
    """
    for item in items if WANTED != "search" else ():
        function = getattr(item, "obj", None)
        own = getattr(function, "_hypothesis_internal_use_settings", None)
        if own is not None and not hasattr(function, "_all_examples"):
            most = own.max_examples
            part = FEW if WANTED == "few" else max(AT_LEAST, round(PART * most))
            function._all_examples = most  # once for each function, however many items it makes
            function._hypothesis_internal_use_settings = settings(own, max_examples=min(part, most))


EXAMPLES = Path(__file__).parent.parent / "src" / "spokeshave" / "examples"


@pytest.fixture(scope="session")
def roastery() -> Project:
    return spoke.read(EXAMPLES / "roastery.spoke")
