"""The JSON Schema of the machine file, and reading by it: what is not known, and what is wrong, is refused with its place."""

from __future__ import annotations

import json
from collections.abc import Iterator
from functools import cache
from importlib.resources import files
from typing import Any

from spokeshave.model.alarms import CLASSES
from spokeshave.model.diagnostics import did_you_mean
from spokeshave.model.panel import KINDS as TILES
from spokeshave.model.project import CONNECTION_KINDS, REQUIREMENT_KINDS, Project
from spokeshave.model.scene import ACTS, COLOURS, HINGES
from spokeshave.model.scene import KINDS as SHAPES

VERSION = 5
TEXTS = frozenset(("text", "opening", "closing", "svg"))
"""Fields whose text may stand as a list of its lines."""


def near(data: Any, loc: tuple[int | str, ...]) -> str:
    """A field with a name like the one that is not known."""
    root = schema()
    spec = _spec_at(root, loc[:-1])
    known = list((spec or {}).get("properties", {}))
    name = str(loc[-1])
    return did_you_mean(name, known) or "it may come from a newer Spokeshave; take it out to read the rest"


def _resolved(root: dict[str, Any], spec: Any) -> dict[str, Any]:
    """The part of the schema that a reference leads to; of several possible ones the first that is an object or a list."""
    while isinstance(spec, dict) and "$ref" in spec:
        spec = root["$defs"][spec["$ref"].rpartition("/")[2]]
    return spec if isinstance(spec, dict) else {}


def _inside(root: dict[str, Any], spec: dict[str, Any], part: int | str) -> dict[str, Any]:
    for way in (spec, *spec.get("anyOf", ())):
        way = _resolved(root, way)
        if isinstance(part, int) and ("items" in way or "prefixItems" in way):
            return _resolved(root, (way.get("prefixItems") or [way.get("items")])[0])
        if part in way.get("properties", {}):
            return _resolved(root, way["properties"][part])
    return {}


def _spec_at(root: dict[str, Any], loc: tuple[int | str, ...]) -> dict[str, Any]:
    spec = root
    for part in loc:
        spec = _inside(root, spec, part)
    return spec


def wrong_values(
    data: Any, path: tuple[int | str, ...], spec: dict[str, Any], root: dict[str, Any]
) -> Iterator[tuple[tuple[int | str, ...], str, str]]:
    """Texts that are none of the words, and numbers out of the range, that the schema allows: where, what, advice."""
    if isinstance(data, dict):
        for key, value in data.items():
            yield from wrong_values(value, (*path, key), _inside(root, spec, key), root)
    elif isinstance(data, list):
        for i, value in enumerate(data):
            yield from wrong_values(value, (*path, i), _inside(root, spec, i), root)
    elif isinstance(data, str) and data not in spec.get("enum", (data,)):
        words = [str(w) for w in spec["enum"]]
        text = data if len(data) <= 40 else f"{data[:37]}..."
        yield path, f"{text!r} is not possible", did_you_mean(data, words) or f"it is one of {', '.join(words)}"
    elif isinstance(data, (int, float)) and not isinstance(data, bool):
        least, most = spec.get("minimum"), spec.get("maximum")
        if (least is not None and data < least) or (most is not None and data > most):
            what = f"{least} to {most} is possible" if most is not None else f"{least} is the least"
            yield path, f"{data} is not possible", what


CHOICES: dict[tuple[str, str], tuple[str, ...]] = {
    ("Signal", "contact"): ("no", "nc"),
    ("Sequence", "hold_outputs"): ("keep", "drop"),
    ("Trip", "steps"): ("freeze", "restart", "go to"),
    ("Trip", "stored"): ("keep", "clear"),
    ("Trip", "times"): ("freeze", "zero"),
    ("AlarmRule", "cls"): CLASSES,
    ("Declared", "role"): ("input", "output", "variable", "failure"),
    ("Connection", "kind"): CONNECTION_KINDS,
    ("Requirement", "kind"): REQUIREMENT_KINDS,
    ("Shape", "kind"): SHAPES,
    ("Tile", "kind"): TILES,
    ("Shape", "act"): ACTS,
    ("Shape", "hinge"): HINGES,
    ("Shape", "colour"): COLOURS,
    ("BusPoint", "role"): ("controller", "machine", "onlooker"),
}
"""Texts of which only these words are possible."""
LEAST: dict[tuple[str, str], int] = {("OpposedPair", "dead_ms"): 0, ("Trip", "rank"): 1, ("BusPoint", "address"): 0, ("Accepted", "within_ms"): 0,
                                     ("Accepted", "length_ms"): 0, ("Accepted", "within"): 0}  # fmt: skip
"""The least numbers."""


@cache
def schema() -> dict[str, Any]:
    """The JSON Schema of the file, as strict as the reader: as `make_schema` makes it, and `scripts/schema` writes it."""
    text = files("spokeshave.formats").joinpath("machine-file.schema.json").read_text(encoding="utf-8")
    found: dict[str, Any] = json.loads(text)
    return found


def make_schema() -> dict[str, Any]:
    """The JSON Schema anew from the model."""
    from pydantic import TypeAdapter  # takes its time

    body = TypeAdapter(Project).json_schema()
    body["title"] = "Spokeshave machine file"
    for name, part in body["$defs"].items():
        if part.get("type") == "object":
            part["additionalProperties"] = False
        for field, spec in part.get("properties", {}).items():
            if (name, field) in CHOICES:
                spec["enum"] = list(CHOICES[name, field])
            if (name, field) in LEAST:
                spec["minimum"] = LEAST[name, field]
    for part in (body, *body["$defs"].values()):
        for field in TEXTS & part.get("properties", {}).keys():
            spec = part["properties"][field]
            if spec.pop("type", "") == "string":
                spec["anyOf"] = [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]
    body["properties"] = {
        "format": {"const": "spokeshave machine file"},
        "version": {"const": VERSION},
        **body["properties"],
    }
    body["properties"]["period_ms"] |= {"minimum": 1, "maximum": 1000}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **body,
        "required": ["format", "version"],
        "additionalProperties": False,
    }
