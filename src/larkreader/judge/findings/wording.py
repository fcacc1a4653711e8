"""Sentences from templates and evidence.

A template is a clause or a sequence of clauses. A clause is a text with places such as ``{missing:count byte}``; it is
left out where a place names evidence that is not there. ``{?name}`` prints nothing and asks that the evidence is there
and true, ``{!name}`` that it is not.

After the colon stands how to write the value:

===================  =====================================================
``count byte``       a number with its noun: ``1 byte``, ``2 bytes``
``is``               ``is`` for 1, else ``are``; ``was`` and ``has`` alike
``time``             seconds with three digits and a fitting unit
``baud``             a baud without needless digits
``percent``          a share as percent: ``4.41 %``
``change``           a share as percent with its sign: ``+0.25 %``
``hex``              ``0x0D``
``list``, ``and``    the items, with commas or with ``and``
any other            as in Python's format strings; ``%`` has a space before it
===================  =====================================================
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

Template = str | tuple[str, ...]

_PLACE = re.compile(r"\{([?!]?)(\w+)(?::([^{}]*))?\}")
_VERBS = {
    "is": ("is", "are"),
    "was": ("was", "were"),
    "has": ("has", "have"),
    "does": ("does", "do"),
    "lie": ("lies", "lie"),
}
_UNITS = (("s", 1.0), ("ms", 1e3), ("µs", 1e6), ("ns", 1e9))


def clauses_of(template: Template) -> tuple[str, ...]:
    """Return a template as its clauses."""
    return (template,) if isinstance(template, str) else template


def names_in(template: Template) -> Iterator[str]:
    """Yield the names of the evidence that a template uses."""
    for clause in clauses_of(template):
        for match in _PLACE.finditer(clause):
            yield match[2]


def render(template: Template, evidence: Mapping[str, Any]) -> str:
    """Write a template with its evidence.

    Parameters
    ----------
    template : str or tuple of str
        The clauses.
    evidence : mapping of str to value
        By name; a name that is missing, or None, leaves out the clauses that use it.

    Returns
    -------
    str
        The clauses that remain, joined by spaces; one that begins with ``,`` or ``;`` follows without a space.
    """
    text = ""
    for clause in clauses_of(template):
        if not _applies(clause, evidence):
            continue
        written = _PLACE.sub(lambda match: "" if match[1] else write_value(evidence[match[2]], match[3] or ""), clause)
        if written:
            text += written if not text or written[0] in " ,;.:" else f" {written}"
    return text


def write_value(value: Any, form: str) -> str:
    """Write one value of evidence; the forms are listed at the top of this module."""
    word, _, rest = form.partition(" ")
    if word == "count":
        number, noun = (len(value) if isinstance(value, Sequence) else value), rest
        return f"{number:,} {noun if number == 1 else plural(noun)}"
    if form in _VERBS:
        return _VERBS[form][value != 1]
    if form == "time":
        return duration(value)
    if form == "baud":
        return f"{value:.10g}"
    if form == "percent":
        return percent(value)
    if form == "change":
        return f"{100 * value:+.3g} %"
    if form == "hex":
        return f"0x{value:02X}"
    if form == "and":
        return " and ".join(map(str, value))
    if form == "list":
        return ", ".join(map(str, value))
    text = format(value, form)
    return f"{text[:-1]} %" if form.endswith("%") else text


def plural(noun: str) -> str:
    """Return the plural of a regular noun; of a phrase, that of its first noun before ``of``, ``that`` and so on."""
    head, separator, tail = _split(noun)
    if head.endswith(("s", "x", "ch", "sh")):
        head += "es"
    elif head.endswith("y") and head[-2:-1] not in "aeiou":
        head = f"{head[:-1]}ies"
    else:
        head += "s"
    return head + separator + tail


def _split(noun: str) -> tuple[str, str, str]:
    for word in (" of ", " with ", " without ", " that ", " in "):
        if word in noun:
            return noun.partition(word)
    return noun, "", ""


def duration(seconds: float) -> str:
    """Write seconds with three digits and a fitting unit; thousands of them as whole seconds."""
    size = abs(seconds)
    if size < 5e-10:
        return "0 s"
    unit, factor = next((item for item in _UNITS if size * item[1] >= 0.9995), _UNITS[-1])
    return f"{seconds:,.0f} s" if size >= 999.5 else f"{seconds * factor:.3g} {unit}"


def percent(share: float) -> str:
    """Write a share as percent with three digits; never 100 % for less than all."""
    return "almost 100 %" if 0.9995 <= share < 1 else f"{100 * share:.3g} %"


def _applies(clause: str, evidence: Mapping[str, Any]) -> bool:
    for condition, name, _ in _PLACE.findall(clause):
        value = evidence.get(name)
        if bool(value) if condition == "!" else not value if condition == "?" else value is None:
            return False
    return True
