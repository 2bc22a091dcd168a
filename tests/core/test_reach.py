"""The reachability study: nothing that a run comes to is missing, nothing is said that the bench does not show."""

from __future__ import annotations

from dataclasses import replace
from itertools import product

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation
from spokeshave.engine.scan import scan
from spokeshave.engine.stimuli import Stimulus
from spokeshave.engine.trace import Trace
from spokeshave.model.project import Action, Project, Qualifier, Sequence, Signal, SignalClass, Step, Transition
from spokeshave.verify.reach.explore import Explorer
from spokeshave.verify.reach.studied import Studied, StudyError
from tests.core.projects import INPUTS, projects, runs

SLOW = settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))


def seen(studied: Studied, s: Situation) -> tuple:
    """What a study tells situations apart by, but for times: active steps and carried variables."""
    active = tuple(tuple(sorted(a)) for a in s.active)
    return active, tuple(int(s.v[slot]) for slot in studied.carried)


def explored(studied: Studied) -> set[tuple]:
    explorer = Explorer(studied)
    found = explorer.run()
    assert found.whole
    columns = explorer.layout.unpack(found.situations)
    out = set()
    for n in range(len(found.situations)):
        active = tuple(
            tuple(x.index for x in q.steps if columns["code", q.index, x.index][n]) for q in studied.program.sequences
        )
        out.add((active, tuple(int(columns["var", slot, 0][n]) for slot in studied.carried)))
    return out


@SLOW
@given(project=projects(), inputs=runs())
def test_whatever_a_run_comes_to_is_among_the_situations_of_the_study(project, inputs):
    studied = Studied(project)
    known = explored(studied)
    stimuli = [Stimulus(10 * k, "set", n, bool(x)) for k, row in enumerate(inputs) for n, x in zip(INPUTS, row)]
    session = Session(project, stimuli, every_scan=True)
    for _ in range(len(inputs) + 5):
        session.scan()
        assert seen(studied, session.situation) in known
