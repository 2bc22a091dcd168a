"""Reader and writer of plain data for the model's dataclasses, made from their annotations.

It is what pydantic makes of them, without the tenth of a second that takes (a property compares the two).
"""

from __future__ import annotations

import dataclasses
import types
import typing
from enum import Enum
from functools import cache
from typing import TYPE_CHECKING, Any

from spokeshave.model.project import Project

if TYPE_CHECKING:
    from pydantic_core import SchemaSerializer, SchemaValidator
    from pydantic_core.core_schema import CoreSchema


@cache
def validator() -> SchemaValidator:
    """Makes a `Project` of JSON data; its errors are pydantic's `ValidationError`."""
    from pydantic_core import SchemaValidator

    return SchemaValidator(_core())


@cache
def serializer() -> SchemaSerializer:
    """Makes JSON data of a `Project`."""
    from pydantic_core import SchemaSerializer

    return SchemaSerializer(_core())


@cache
def _core() -> CoreSchema:
    from pydantic_core import core_schema as cs

    known: dict[type, CoreSchema] = {}
    plain = {str: cs.str_schema(), int: cs.int_schema(), float: cs.float_schema(), bool: cs.bool_schema()}

    def of_class(kind: type) -> CoreSchema:
        if kind not in known:
            hints = typing.get_type_hints(kind)
            fields = [cs.dataclass_field(f.name, with_default(f, of(hints[f.name]))) for f in dataclasses.fields(kind)]
            known[kind] = cs.dataclass_schema(
                kind, cs.dataclass_args_schema(kind.__name__, fields), [f.name for f in dataclasses.fields(kind)],
                slots=True, frozen=True,
            )  # fmt: skip
        return known[kind]

    def with_default(field: dataclasses.Field[Any], inner: CoreSchema) -> CoreSchema:
        if field.default is not dataclasses.MISSING:
            return cs.with_default_schema(inner, default=field.default)
        if field.default_factory is not dataclasses.MISSING:
            return cs.with_default_schema(inner, default_factory=field.default_factory)
        return inner

    def of(kind: Any) -> CoreSchema:
        if kind in plain:
            return plain[kind]
        origin, inner = typing.get_origin(kind), typing.get_args(kind)
        if origin in (types.UnionType, typing.Union):
            ways = [of(k) for k in inner if k is not type(None)]
            one = ways[0] if len(ways) == 1 else cs.union_schema(list(ways))
            return cs.nullable_schema(one) if type(None) in inner else one
        if origin is tuple:
            if inner[-1] is Ellipsis:
                return cs.tuple_schema([of(inner[0])], variadic_item_index=0)
            return cs.tuple_schema([of(k) for k in inner])
        if issubclass(kind, Enum):
            sub = "str" if issubclass(kind, str) else None
            return cs.enum_schema(kind, list(kind.__members__.values()), sub_type=sub)  # type: ignore[arg-type]
        return of_class(kind)

    return of_class(Project)
