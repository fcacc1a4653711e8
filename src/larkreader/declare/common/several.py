"""Keys of a sheet at which a single thing may stand, or a list of them."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BeforeValidator, StrictInt, WithJsonSchema


def _as_tuple(declared: Any) -> Any:
    return tuple(declared) if isinstance(declared, (list, tuple)) else (declared,)


def _one_or_several(kind: str) -> WithJsonSchema:
    return WithJsonSchema({"anyOf": [{"type": kind}, {"type": "array", "items": {"type": kind}}]})


Names = Annotated[tuple[str, ...], BeforeValidator(_as_tuple), _one_or_several("string")]
Numbers = Annotated[tuple[StrictInt, ...], BeforeValidator(_as_tuple), _one_or_several("integer")]
