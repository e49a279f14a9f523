"""Settings of kinds by name: defaults, one value changed and checked, and what of them other takes may have."""

from __future__ import annotations

from functools import cache
from typing import Any

import msgspec

from isophon.core.errors import CallError
from isophon.core.passes import BY_NAME
from isophon.core.passes.kind import SpanLearning


def role_default(kind: str, role: str) -> Any:
    """The settings of a kind that a part of a role starts with."""
    return BY_NAME[kind].role_default(role)


def drawn_lengths(kind: str) -> tuple[float, float]:
    """The shortest and longest mark of a kind that a hand can make, in s."""
    return BY_NAME[kind].decision.drawn_s if kind in BY_NAME else (0.005, 86_400.0)


def span_learning(kind: str) -> SpanLearning:
    """What a kind learns from a selected span; CallError where it learns nothing."""
    learning = BY_NAME[kind].span_learning if kind in BY_NAME else None
    if learning is None:
        raise CallError(f"{kind}: learns nothing from a selected time")
    return learning


def carried(kind: str, settings: Any, onto: Any) -> Any:
    """``settings`` for another take, whose own are ``onto``: what belongs to one take alone does not come along."""
    return msgspec.structs.replace(settings, **{name: getattr(onto, name) for name in BY_NAME[kind].one_take})


def value_range(kind: str, name: str) -> tuple[float, float]:
    """The lowest and highest value of a setting, as its type says."""
    kind_type = _types(kind)[name]
    return kind_type.ge, kind_type.le


@cache
def _types(kind: str) -> dict[str, Any]:
    """The types of a kind's settings; looking into them takes some ms."""
    kind_type: Any = msgspec.inspect.type_info(BY_NAME[kind].settings)
    return {field.name: field.type for field in kind_type.fields}


def with_setting(kind: str, settings: Any, name: str, value: Any) -> Any:
    """``settings`` with one value changed and checked; CallError for a name or value that cannot be."""
    if name not in settings.__struct_fields__:
        known = ", ".join(settings.__struct_fields__)
        raise CallError(f"{kind}.{name}: no such setting; the settings of {kind} are {known}")
    try:
        return msgspec.convert({**msgspec.to_builtins(settings), name: value}, type(settings), strict=False)
    except msgspec.ValidationError as error:
        raise CallError(f"{kind}.{name}={value}: out of range ({str(error).split(' - ')[0]})") from error
