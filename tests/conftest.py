"""What all tests share: the shipped examples."""

from __future__ import annotations

from pathlib import Path

import pytest

from spokeshave.formats import spoke
from spokeshave.model.project import Project

# Qt's import hook looks into modules that are imported after it; pydantic's lazy ones are complete once a schema is made.
spoke.schema()

EXAMPLES = Path(__file__).parent.parent / "src" / "spokeshave" / "examples"


@pytest.fixture(scope="session")
def roastery() -> Project:
    return spoke.read(EXAMPLES / "roastery.spoke")
