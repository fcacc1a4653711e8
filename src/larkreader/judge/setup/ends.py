"""The ends of a link as each states it, compared with each other and with the sheet."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.end import End
from larkreader.declare.link.line import PARITY_NAMES, LineSettings
from larkreader.judge.findings.finding import Finding, make_finding

from .wiring import Wiring

SHEET = "the sheet"
SETTINGS = {
    "baud": "baud",
    "data_bits": "data bits",
    "parity": "parity",
    "stop_bits": "stop bits",
    "idle": "idle level",
    "first_bit": "first bit",
    "ninth_bit": "ninth bit",
    "flow_control": "flow control",
}


@dataclass(frozen=True)
class StatedSettings:
    """What one end says of one wire.

    Parameters
    ----------
    wire : str
        The wire.
    end : str
        The end, or ``"the sheet"`` for what is declared.
    role : str
        ``"sends"``, ``"receives"``, or nothing for the sheet.
    line : LineSettings
        The settings, however the end counts its data bits.
    stated_in : str
        Where they were read.
    """

    wire: str
    end: str
    role: str
    line: LineSettings
    stated_in: str = ""

    def to_dict(self) -> dict[str, str]:
        """Return what is stated as JSON has it."""
        return {"end": self.end, "role": self.role, "line": str(self.line), "stated_in": self.stated_in}

    def text_of(self, name: str) -> str:
        """Write one of `SETTINGS`."""
        value = getattr(self.line, name)
        if name == "parity":
            return PARITY_NAMES[value]
        return value if isinstance(value, str) else f"{value:,.10g}"


def stated_settings(sheet: Sheet) -> Mapping[str, Sequence[StatedSettings]]:
    """Return who states what of each wire: the sheet, then its sender, then its receivers.

    Parameters
    ----------
    sheet : Sheet
        What was declared.

    Returns
    -------
    mapping of str to sequence of StatedSettings
        By wire, of those with which an end has to do.
    """
    result: dict[str, list[StatedSettings]] = {}
    for key, wire in sheet.wire.items():
        rows = [
            StatedSettings(key, end.key, role, end.line_on(wire.line), end.stated_in)
            for role in ("sends", "receives")
            for end in sheet.end.values()
            if key in getattr(end, role)
        ]
        if rows:
            result[key] = [StatedSettings(key, SHEET, "", wire.line), *rows]
    return result


def judge_ends(sheet: Sheet) -> list[Finding]:
    """Return in which settings the ends of each wire differ, from each other or from the sheet.

    Parameters
    ----------
    sheet : Sheet
        What was declared.

    Returns
    -------
    list of Finding
        One of kind ``setting-mismatch`` for each setting; a warning where the link works all the same.
    """
    alike: dict[tuple[str, ...], list[Sequence[StatedSettings]]] = {}
    wiring = Wiring(sheet)
    for wire, every in stated_settings(sheet).items():
        for name in SETTINGS:
            rows = _of_one_side(wiring, wire, every) if name == "idle" else every
            if len({row.text_of(name) for row in rows}) > 1:
                who_says_what = sorted(f"{row.end}: {row.text_of(name)}" for row in rows)
                alike.setdefault((name, *who_says_what), []).append(rows)
    return [_mismatch(sheet, key[0], every) for key, every in alike.items()]


def _of_one_side(wiring: Wiring, wire: str, rows: Sequence[StatedSettings]) -> Sequence[StatedSettings]:
    """Return the rows whose idle levels must agree.

    The level at a receiver that joints lead to may be the inverse: `judge_wiring` compares it with the sender's. The
    sheet may state the level at either side.
    """
    ends = wiring.sheet.end
    beyond = [row for row in rows if row.role == "receives" and wiring.follows_polarity(wire, ends[row.end])]
    kept = [row for row in rows if row not in beyond]
    is_theirs = rows[0].line.idle in {row.line.idle for row in beyond}
    return [row for row in kept if row.end != SHEET] if is_theirs else kept


def _mismatch(sheet: Sheet, name: str, every: Sequence[Sequence[StatedSettings]]) -> Finding:
    """Make one finding of the wires on which the same ends differ in the same way."""
    title, rows = SETTINGS[name], every[0]
    wires = [rows[0].wire for rows in every]
    wire = " ".join(wires)
    who: dict[str, list[str]] = {}
    for row in rows:
        place = f" ({row.stated_in})" if row.stated_in else ""
        who.setdefault(row.text_of(name), []).append(f"{row.end}{place}")
    ends = {row.text_of(name) for row in rows if row.end != SHEET}
    is_harmless = len(ends) == 1 or name == "stop_bits"
    return make_finding(
        "setting-mismatch",
        wire,
        severity="warning" if is_harmless else None,
        setting=title,
        title=title.capitalize(),
        wires=" and ".join(wires),
        values="; ".join(f"{value} at {' and '.join(names)}" for value, names in who.items()),
        wanted=rows[0].text_of(name),
        ends_agree=len(ends) == 1,
        stop_bits=name == "stop_bits" and len(ends) > 1,
        **(_counted_parity(sheet, rows) if name == "data_bits" and len(ends) > 1 else {}),
    )


def _counted_parity(sheet: Sheet, rows: Sequence[StatedSettings]) -> dict[str, Any]:
    """Return the evidence that an end would agree with the others if its data bits were counted in the other way."""
    others = {row.end: row.line.data_bits for row in rows}
    for row in rows:
        end = sheet.end.get(row.end)
        rest = {bits for name, bits in others.items() if name != row.end}
        if end is None or not row.line.has_parity or len(rest) != 1:
            continue
        shift = 1 if end.parity_counted else -1
        if row.line.data_bits + shift in rest:
            name = "counted_without" if end.parity_counted else "counted_with"
            return {name: row.end, "stated_bits": _stated_bits(end, row.line)}
    return {}


def _stated_bits(end: End, line: LineSettings) -> int:
    return line.data_bits + (end.parity_counted and line.has_parity)
