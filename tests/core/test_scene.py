"""The scene as a value: what rides on what, edits, a first drawing of any device, names that follow, what is found wrong."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.formats.spoke import dumps, loads
from spokeshave.language.rename import rename_device, rename_signal
from spokeshave.machine.kinds import KINDS as DEVICES
from spokeshave.machine.scene import first_drawing, numbers_of
from spokeshave.model.project import Declared, Device, Project
from spokeshave.model.scene import (
    ACTS,
    SceneError,
    Shape,
    add_shapes,
    carriers,
    change_shape,
    part_of,
    raise_shape,
    remove_shapes,
    shape_of,
)
from spokeshave.verify.check import findings
from spokeshave.verify.find import find_everywhere
from tests.core.test_check import gate

NAMES = ("Arm", "Rod", "Candle", "Hub")


def scene_of(*shapes: Shape) -> Project:
    return replace(gate(), scene=shapes)


@given(st.lists(st.tuples(st.sampled_from(NAMES), st.sampled_from(("", *NAMES))), max_size=12), st.sampled_from(NAMES))
def test_whatever_is_asked_for_nothing_rides_on_itself(asked, gone):
    project = scene_of(*(Shape(n) for n in NAMES))
    for name, rides in asked:
        before = project
        try:
            project = change_shape(project, name, rides=rides)
        except SceneError as error:
            assert "which rides on it" in str(error) and project is before
        for s in project.scene:
            under = carriers(project.scene, s)
            assert s not in under and len(under) == len(set(under))
            assert [u.name for u in under][:1] == ([s.rides] if s.rides else [])
    left = remove_shapes(project, [gone.lower()])
    assert [s.name for s in left.scene] == [n for n in NAMES if n != gone]
    assert all(s.rides != gone for s in left.scene)
    assert loads(dumps(project)) == project


@given(st.floats(-1e3, 1e3), st.floats(-1e3, 1e3), st.floats(-2e3, 2e3))
def test_a_number_is_on_its_way_between_its_ends(low, high, value):
    part = part_of(Shape("S", low=low, high=high), value)
    assert 0 <= part <= 1
    if low != high:
        assert part_of(Shape("S", low=low, high=high), low) == 0 and part_of(Shape("S", low=low, high=high), high) == 1
        assert part == pytest.approx(1 - part_of(Shape("S", low=high, high=low), value), abs=1e-6)


@pytest.mark.parametrize("kind", DEVICES)
def test_every_device_has_numbers_and_what_is_drawn_of_it_follows_it(kind):
    declared = (Declared("Level", "output"), Declared("Fill", "input")) if kind == "own" else ()
    device = Device("Part", kind, at=(1, 2), declared=declared)
    project = Project("P", devices=(device, replace(device, name="Other", at=(0, 0))))
    numbers = numbers_of(device, 10)
    assert numbers and len(numbers) == len(set(numbers))
    drawn = add_shapes(project, first_drawing(project))
    hands = kind in ("button", "emergency", "selector", "setpoint", "follower")
    assert hands == (not drawn.scene)
    assert len({s.name for s in drawn.scene}) == len(drawn.scene) and all(s.act in ACTS for s in drawn.scene)
    if not hands:
        assert {s.follows for s in drawn.scene} - {""} <= {"Part", "Other"}
    assert not [d for d in findings(drawn) if d.code == "scene-of-nothing"]
    again = add_shapes(drawn, first_drawing(project))
    assert len({s.name for s in again.scene}) == 2 * len(drawn.scene)
    assert all(shape_of(again.scene, s.rides) for s in again.scene if s.rides)
    twice = [s for s in again.scene[len(drawn.scene) :] if s.rides]
    assert all(
        s.rides in {x.name for x in again.scene[len(drawn.scene) :]} for s in twice
    )  # with its own, not with the first


def test_edits_are_refused_with_their_reason_and_names_follow():
    project = scene_of(Shape("Leaf", follows="Sluice", number="position"), Shape("Lamp", follows="Drive", rides="Leaf"))
    for changes, says in (
        ({"name": "lamp"}, "there is a shape lamp already"), ({"name": " "}, "needs a name"), ({"size": (0, 3)}, "grid lines wide"),
        ({"rides": "Lamp"}, "cannot ride on Lamp"),
    ):  # fmt: skip
        with pytest.raises(SceneError, match=says):
            change_shape(project, "Leaf", **changes)
    with pytest.raises(SceneError, match="there is no shape Gone"):
        change_shape(project, "Gone", text="x")
    named = change_shape(project, "leaf", name="Door", at=(3, 4))
    assert [(s.name, s.rides) for s in named.scene] == [("Door", ""), ("Lamp", "Door")]
    renamed = rename_signal(rename_device(named, "Sluice", "Weir"), "Drive", "Motor")
    assert [s.follows for s in renamed.scene] == ["Weir", "Motor"]
    assert [s.name for s in raise_shape(named, "Door", True).scene] == ["Lamp", "Door"]
    assert raise_shape(named, "Nobody", True) is named
    assert any("scene" in str(hit.place) for hit in find_everywhere(renamed, "Weir"))


def test_what_is_followed_and_not_there_is_found():
    project = scene_of(
        Shape("A", follows="Slice"),
        Shape("B", follows="Sluice", number="positon"),
        Shape("C", rides="D"),
        Shape("E", follows="Drive"),
    )
    found = [(str(d.place), d.message, d.advice) for d in findings(project) if d.code == "scene-of-nothing"]
    assert [m for _, m, _ in found] == [
        "there is no Slice to follow",
        "Sluice has no positon",
        "there is no shape D to ride on",
    ]
    assert "did you mean Sluice?" in found[0][2] and "did you mean position?" in found[1][2]
