"""What a value is in the name space of OPC UA (IEC 62541, with the types of its companion for IEC 61131-3)."""

from __future__ import annotations

from asyncua import ua

from spokeshave.model.project import Type, Value

VARIANTS = {Type.BOOL: ua.VariantType.Boolean, Type.INT: ua.VariantType.Int16, Type.DINT: ua.VariantType.Int32,
            Type.REAL: ua.VariantType.Float, Type.TIME: ua.VariantType.Double}  # fmt: skip
"""A TIME is a Duration: milliseconds as a Double."""


def variant(value: Value, kind: Type) -> ua.DataValue:
    """A value as it is written."""
    plain = bool(value) if kind is Type.BOOL else float(value) if kind in (Type.REAL, Type.TIME) else int(value)
    return ua.DataValue(ua.Variant(plain, VARIANTS[kind]))


def value_of(plain: object, kind: Type) -> Value:
    """A value that was read. Raises `ValueError` for one that is none of the type."""
    if kind is Type.BOOL and isinstance(plain, bool):
        return plain
    if isinstance(plain, (int, float)) and not isinstance(plain, bool):
        if kind is Type.REAL:
            return float(plain)
        if kind is not Type.BOOL and plain == int(plain):
            return int(plain)
    raise ValueError(f"{plain!r} is no {kind}")
