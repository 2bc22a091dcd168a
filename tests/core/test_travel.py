"""Movements with acceleration: they go where they should, without a jump, and every border is found where scanning finds it."""

from __future__ import annotations

import math
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.machine import travel
from spokeshave.machine.device import NEVER
from spokeshave.machine.kinds import build
from spokeshave.model.project import Device

places = st.floats(-1e6, 1e6)
speeds = st.floats(-5000, 5000)
accelerations = st.floats(1, 500)


@st.composite
def courses(draw) -> travel.Crossings:
    x, v, a = draw(places), draw(speeds), draw(accelerations)
    if draw(st.booleans()):
        return travel.move_to(x, v, draw(places), draw(st.floats(10, 5000)), a)
    return travel.ramp(x, v, draw(speeds), a)


@given(courses())
def test_a_course_has_no_jump_in_place_or_speed(course):
    for (n0, x0, v0, a), (n1, x1, v1, _) in pairwise(course):
        t = n1 - n0
        assert t >= 0
        assert x0 + v0 * t + a * t * t / 2 == pytest.approx(x1, abs=0.01)
        assert v0 + a * t == pytest.approx(v1, abs=0.01)


@given(places, speeds, places, st.floats(10, 5000), accelerations)
def test_a_movement_comes_to_rest_at_its_target_and_keeps_to_its_limits(x, v, target, fastest, a):
    course = travel.move_to(x, v, target, fastest, a)
    end = math.ceil(course[-1][0])
    assert travel.place(course, end) == travel.place(course, end + 1000) == math.floor(target + 0.5)
    assert travel.speed(course, end + 1) == 0
    limit = max(fastest, abs(v)) + 0.01
    for n in range(0, end, max(1, end // 50)):
        assert abs(travel.speed(course, n)) <= limit
        assert abs(travel.speed(course, n + 1) - travel.speed(course, n)) <= a + 0.01


@given(
    courses(),
    st.integers(0, 50),
    st.one_of(st.none(), st.integers(-2000, 2000)),
    st.one_of(st.none(), st.integers(-2000, 0)),
)
def test_the_first_crossing_is_the_one_that_scanning_finds(course, n, up, down):
    here = travel.place(course, n)
    above = None if up is None else here + abs(up) + 1
    below = None if down is None else here + down
    found = travel.first_crossing(course, n, above, below)
    looked = 3000

    def crossed(k: int) -> bool:
        x = travel.place(course, k)
        return (above is not None and x >= above) or (below is not None and x < below)

    scanned = next((k for k in range(n + 1, n + looked) if crossed(k)), NEVER)
    if scanned != NEVER:
        assert found == scanned
    else:
        assert found >= n + looked or found == NEVER


@given(courses(), st.integers(0, 200))
def test_the_stretches_of_a_course_follow_on_each_other_and_go_one_way(course, n):
    spans = list(travel.spans(course, n))
    assert spans[0][0] == n and spans[-1][1] == NEVER
    for (_, high), (low, _) in pairwise(spans):
        assert high == low
    for low, high in spans:
        steps = range(low, min(high, low + 300) + 1)
        moves = [travel.place(course, k + 1) - travel.place(course, k) for k in steps[:-1]]
        assert not (any(m > 0 for m in moves) and any(m < 0 for m in moves)) or high == low + 1


@given(st.lists(st.integers(-50, 50), max_size=8), st.integers(-60, 60))
def test_the_nearest_borders_are_the_ones_on_either_side(borders, x):
    up, down = travel.nearest(borders, x)
    assert up == min((b for b in borders if b > x), default=None)
    assert down == max((b for b in borders if b <= x), default=None)


belts = st.lists(st.tuples(st.integers(1, 120), st.booleans(), st.booleans(), st.booleans(), st.booleans()), max_size=8)


@given(belts, st.booleans())
def test_items_keep_their_order_and_distance_and_none_is_lost_unseen(turns, waits):
    """What came is on the belt, went off at its end, or fell off its start while it ran backwards."""
    parameters = {"length_m": 0.5, "item_m": 0.08, "speed_m_s": 0.5, "gate_m": 0.3, "waits_at_end": float(waits)}
    wires = tuple((n, n) for n in ("run", "reverse", "gate", "take", "off", "eye1"))
    belt = build(Device("B", "belt", wires, tuple(parameters.items())), 10)
    state, k, put, backwards = belt.start(), 0, 0, False
    for scans, run, reverse, gate, hand in turns:
        before = len(belt.items(state, k))
        state = belt.turn(state, k, (run, reverse, 0, gate, False, 0), frozenset(), int(hand))
        put += len(belt.items(state, k)) - before
        backwards |= reverse
        for j in range(k, k + scans, 5):
            items = belt.items(state, j)
            assert list(items) == sorted(items, reverse=True)
            assert all(a - b >= 80_000 - 1 for a, b in pairwise(items))
            off = belt.sense(state, j)[4]
            assert len(items) + off == put if not backwards else len(items) + off <= put
            assert not waits or all(p <= 500_000 for p in items)
        k += scans
        state = belt.turn(state, k, (False, False, 0, gate, False, 0), frozenset(), 0)
