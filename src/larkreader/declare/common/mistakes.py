"""From what the validator found to sentences for the person who wrote the sheet.

The validator's own sentences are written for programmers. Here each gets the place as the sheet's author
knows it, what was found there, what is wanted, and the nearest known key.
"""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import replace
from types import UnionType
from typing import Any, Union, get_args, get_origin

from pydantic import BaseModel, ValidationError
from pydantic_core import PydanticCustomError

from larkreader.errors import Mistake, nearest

_PLAIN = {
    "missing": "is missing",
    "string_type": "must be text in quotes",
    "int_type": "must be a whole number",
    "int_parsing": "must be a whole number",
    "int_from_float": "must be a whole number",
    "float_type": "must be a number",
    "float_parsing": "must be a number",
    "finite_number": "must be a finite number",
    "bool_type": "must be true or false",
    "bool_parsing": "must be true or false",
    "dict_type": "must be a table",
    "model_type": "must be a table",
    "list_type": "must be a list",
    "tuple_type": "must be a list",
}


def mistakes_of(error: ValidationError, model: type[BaseModel], where: str) -> list[Mistake]:
    """Reword all mistakes that the validator found in `model`, which stands at `where` in the sheet."""
    mistakes: list[Mistake] = []
    for detail in error.errors(include_url=False):
        place, owner = _place(model, detail["loc"], where)
        kind, found = detail["type"], show(detail["input"])
        if kind == "mistakes":
            mistakes += detail["ctx"]["mistakes"](place)
        elif kind == "extra_forbidden":
            table = place.rpartition(".")[0]
            known = [field.serialization_alias or key for key, field in owner.model_fields.items()]
            advice = nearest(str(detail["loc"][-1]), [key for key in known if key != "key"])
            mistakes.append(Mistake(place, "", f"is not a key of [{table}]" if table else "is not known", advice))
        elif kind == "missing":
            mistakes.append(Mistake(place, "", "is missing"))
        else:
            mistakes.append(Mistake(place, found, _wanted(detail)))
    return mistakes


def raise_mistakes(mistakes: Sequence[Mistake]) -> None:
    """Raise, from a model's validator, all that is wrong with it, at places within it; nothing if nothing is."""
    if mistakes:
        raise PydanticCustomError(
            "mistakes",
            "{text}",
            {
                "text": "; ".join(f"{mistake.where}: {mistake.found} {mistake.wanted}" for mistake in mistakes),
                "mistakes": lambda where: [
                    replace(mistake, where=f"{where}.{mistake.where}".strip(".")) for mistake in mistakes
                ],
            },
        )


def show(value: Any) -> str:
    """Write a value as a sheet would."""
    is_finite = not isinstance(value, float) or math.isfinite(value)
    text = json.dumps(value, ensure_ascii=False, default=str) if is_finite else repr(value)
    return text if len(text) <= 60 else text[:57] + "..."


def _wanted(detail: Any) -> str:
    kind, context = detail["type"], detail.get("ctx", {})
    if kind in _PLAIN:
        return _PLAIN[kind]
    if kind in ("literal_error", "enum"):
        return f"must be {context['expected']}".replace("'", '"')
    if kind == "union_tag_invalid":
        *tags, last = context["expected_tags"].split(", ")
        return f"must have a kind of {', '.join(tags)} or {last}".replace("'", '"')
    if kind == "union_tag_not_found":
        return f"must have the key {context['discriminator']}".replace("'", "")
    if kind == "greater_than":
        return f"must be more than {context['gt']:g}"
    if kind == "less_than":
        return f"must be less than {context['lt']:g}"
    if kind == "greater_than_equal":
        return f"must be at least {context['ge']}"
    if kind == "less_than_equal":
        return f"must be at most {context['le']}"
    message: str = detail["msg"]
    return message.removeprefix("Value error, ")


def _place(model: type[BaseModel], loc: Sequence[int | str], where: str) -> tuple[str, type[BaseModel]]:
    """Follow a validator's location through the models; return the place and the model that it lies in."""
    place, owner = where, model
    annotation: Any = None
    for part in loc:
        if isinstance(part, int):
            place += f"[{part}]"
            continue
        choices = _models_in(annotation)
        if _is_union(annotation):  # the validator names the branch that it took, which the author never wrote
            annotation = next((choice for choice in choices if getattr(choice, "tag", None) == part), None)
            continue
        owner = choices[0] if choices else owner
        place = f"{place}.{part}" if place else str(part)
        field = owner.model_fields.get(str(part)) or owner.model_fields.get(f"{part}_")
        annotation = field.annotation if field else None
    return place, owner


def _models_in(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [model for argument in get_args(annotation) for model in _models_in(argument)]


def _is_union(annotation: Any) -> bool:
    arguments = get_args(annotation)
    if get_origin(annotation) in (Union, UnionType):
        several = [argument for argument in arguments if argument is not type(None)]
        return len(several) > 1 or any(_is_union(item) for item in several)
    return any(_is_union(argument) for argument in arguments)
