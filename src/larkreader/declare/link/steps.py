"""The steps by which an end is set up, in their order, and the rules that they must keep to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from pydantic import BaseModel, Field, StrictBool, StrictInt, model_validator
from pydantic_core import PydanticCustomError

from larkreader.declare.common.given import Input, default
from larkreader.declare.common.several import Names


class Step(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """One step: something named, or a write to a register.

    Parameters
    ----------
    end : str, optional
        Whose it is; the only end's by default.
    do : str, optional
        What is done, by a name that rules know.
    write : str, optional
        The register that is written.
    value : int, optional
        What is written into it.
    note : str
        Anything worth telling the reader, such as the place in the source.
    """

    end: str | None = None
    do: str | None = Field(default=None, min_length=1)
    write: str | None = Field(default=None, min_length=1)
    value: StrictInt | None = Field(default=None, ge=0)
    note: str = ""

    @model_validator(mode="after")
    def _is_one_or_the_other(self) -> Step:
        if (self.do is None) == (self.write is None):
            raise PydanticCustomError("wanted", "must have either do = a name, or write = a register and value.")
        if (self.write is None) != (self.value is None):
            raise PydanticCustomError("wanted", "must have a value with write, and none without.")
        return self


class Rule(BaseModel, frozen=True, extra="forbid", allow_inf_nan=False):
    """What holds of a step.

    Parameters
    ----------
    key : str
        The step's name: that of `Step.do`, unless `write` marks it.
    end : str, optional
        For which end it holds; for every one by default.
    write : str, optional
        That it is a write to this register, as in ``"CTRL"``, or to a field of one, as in ``"CTRL.enable"``.
    value : int, optional
        That it is one that sets it to this value.
    needs : str or tuple of str
        Steps that must have been done before.
    locked_while : str or tuple of str
        States in which it is ignored.
    only_while : str or tuple of str
        States of which any must hold, or it is ignored.
    sets, clears : str or tuple of str
        States that hold from it on, and that no longer do.
    must : bool
        Whether it must be done at all.
    note : str
        Why, such as the chapter of the manual.
    """

    key: str = "step"
    end: str | None = None
    write: str | None = None
    value: StrictInt | None = Field(default=None, ge=0)
    needs: Input[Names, str | Sequence[str]] = default(())
    locked_while: Input[Names, str | Sequence[str]] = default(())
    only_while: Input[Names, str | Sequence[str]] = default(())
    sets: Input[Names, str | Sequence[str]] = default(())
    clears: Input[Names, str | Sequence[str]] = default(())
    must: StrictBool = False
    note: str = ""

    @model_validator(mode="after")
    def _value_is_of_a_write(self) -> Rule:
        if self.value is not None and self.write is None:
            raise PydanticCustomError("wanted", "has a value, which is of a write.")
        return self


def check_states(rules: Mapping[str, Rule]) -> list[tuple[str, str]]:
    """Return which rules want states that none sets: the rule's key, and the state."""
    known = {state for rule in rules.values() for state in (*rule.sets, *rule.clears)}
    return [
        (rule.key, state)
        for rule in rules.values()
        for state in (*rule.locked_while, *rule.only_while)
        if state not in known
    ]
