"""The reader of machine files beside pydantic's own for the same classes: what one takes the other takes, and nothing else."""

from __future__ import annotations

import json
import random

from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter
from pydantic_core import ValidationError

from spokeshave.formats.shape import serializer, validator
from spokeshave.model.project import Project
from tests.core.projects import projects

PYDANTIC = TypeAdapter(Project)
ODD = (None, True, 0, -1, 1.5, "", "TRUE", "input", "S", [], {}, [1, 2], [["a", "b"]], {"name": "x"}, 2**70, "é" * 3)


def outcome(read, data):
    try:
        return read(json.dumps(data), strict=True, extra="forbid")
    except ValidationError as error:
        return [(e["type"], e["loc"]) for e in error.errors(include_url=False)]


def spoilt(data, rng: random.Random):
    """With one value, somewhere, exchanged, taken out or put besides."""
    here, key = data, None
    while isinstance(here, (dict, list)) and here and (key is None or rng.random() < 0.75):
        above, key = here, rng.choice(list(here)) if isinstance(here, dict) else rng.randrange(len(here))
        here = above[key]
    if key is None:
        return data
    what = rng.randrange(3)
    if what == 0:
        del above[key]
    elif what == 1 and isinstance(above, dict):
        above[f"{key}_too"] = rng.choice(ODD)
    else:
        above[key] = rng.choice(ODD)
    return data


@given(project=projects(), seed=st.integers(0, 2**32))
def test_every_file_and_every_spoilt_one_is_read_as_pydantic_reads_it(project, seed, roastery):
    rng = random.Random(seed)
    for whole in (project, roastery):
        data = serializer().to_python(whole, mode="json", exclude_defaults=True)
        assert data == PYDANTIC.dump_python(whole, mode="json", exclude_defaults=True)
        assert outcome(validator().validate_json, data) == whole
        for _ in range(3):
            data = spoilt(data, rng)
            assert outcome(validator().validate_json, data) == outcome(PYDANTIC.validate_json, data)
