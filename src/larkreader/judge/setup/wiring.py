"""Whether the pins of a sheet are joined as its wires want it, and bear what they are joined to.

Pins that joints connect make a net. A net is looked at as a whole for who drives it; each joint by itself for levels,
which a translating one changes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations, product

from larkreader.declare.document.sheet import Sheet
from larkreader.declare.link.end import End
from larkreader.declare.link.wiring import INPUTS, OUTPUTS, ROLES, Connection, Levels, Pin, Role
from larkreader.judge.findings.finding import Finding, make_finding

PIN_FARADS = 20e-12  # of an input or output and the trace to it
SLOW = 0.25  # of a bit: how long an edge may take from 10 % to 90 %
RISE = 2.2  # time constants from 10 % to 90 %
LONGEST_LOGIC_M = 3.0  # of levels that are meant for one board or box, with a ground that carries other currents too
MOST_232_FARADS = 2500e-12  # TIA-232-F, 2.1.4
LONGEST_485_M, MOST_485_METRE_BAUDS = 1200.0, 1e8  # TIA TSB-89-A
NAMES: dict[Role, str] = {"tx": "TX", "rx": "RX", "rts": "RTS", "cts": "CTS", "ground": "ground", "supply": "supply"}


@dataclass(frozen=True)
class _Place:
    """A pin at its end."""

    end: End
    name: str
    pin: Pin

    @property
    def text(self) -> str:
        return f"{self.end.key}.{self.name}"

    @property
    def role(self) -> Role | None:
        return self.pin.role or ROLES.get(self.name)

    @property
    def levels(self) -> Levels | None:
        return self.pin.levels_at(self.end.levels)


def judge_wiring(sheet: Sheet) -> list[Finding]:
    """Return what is wrong with pins, joints, levels and supplies.

    Parameters
    ----------
    sheet : Sheet
        What was declared; its ``[[joint]]`` and the pins of its ends count.

    Returns
    -------
    list of Finding
        Of an end without pins nothing is asked but what needs none.
    """
    return list(Wiring(sheet).findings())


class Wiring:
    """The pins of a sheet and what joins them."""

    places: dict[str, _Place]
    net: dict[str, int]
    flips: dict[str, bool]
    touching: dict[str, int]

    def __init__(self, sheet: Sheet) -> None:
        self.sheet = sheet
        self.places = {
            f"{end.key}.{name}": _Place(end, name, pin) for end in sheet.end.values() for name, pin in end.pin.items()
        }
        self.net, self.flips = self._nets_of(sheet.joint)
        self.touching, _ = self._nets_of([joint for joint in sheet.joint if not joint.isolates])

    def _nets_of(self, joints: Sequence[Connection]) -> tuple[dict[str, int], dict[str, bool]]:
        """Return the number of each pin's net, and which pins see the inverse of the first of their net."""
        net: dict[str, int] = {}
        flips: dict[str, bool] = {}
        for number, first in enumerate(self.places):
            if first in net:
                continue
            net[first], flips[first] = number, False
            waiting = [first]
            while waiting:
                name = waiting.pop()
                for joint in joints:
                    for other in joint.joins if name in joint.joins else ():
                        if other not in net:
                            net[other], flips[other] = number, flips[name] ^ self._inverts(joint, name, other)
                            waiting.append(other)
        return net, flips

    def _inverts(self, joint: Connection, text: str, other: str) -> bool:
        """Return whether two pins of a joint see each other's inverse: those on the two sides of an inverter do."""
        if not joint.inverts or len(joint.joins) == 2:
            return joint.inverts
        is_output = {name: self.places[name].role in OUTPUTS for name in joint.joins}
        if len(set(is_output.values())) == 1:
            is_output = {name: name == joint.joins[0] for name in joint.joins}
        return is_output[text] != is_output[other]

    def findings(self) -> Iterator[Finding]:
        """Yield what is wrong with them."""
        for end in self.sheet.end.values():
            yield from self._of_end(end)
        if self.sheet.end:
            yield from self._of_wires()
        for number in sorted(set(self.net.values())):
            places = [self.places[name] for name, net in self.net.items() if net == number]
            if len(places) > 1:
                yield from self._of_net(places)
        for joint in self.sheet.joint:
            yield from self._of_joint(joint)

    def _of_end(self, end: End) -> Iterator[Finding]:
        where = f"end.{end.key}"
        users: dict[str, list[str]] = {}
        for name, pin in end.pin.items():
            if pin.pad:
                users.setdefault(pin.pad, []).append(name)
        for pad, names in users.items():
            if len(names) > 1 or pad in end.taken:
                others = [*names, *(["something else"] if pad in end.taken else [])]
                yield make_finding("pin-used-twice", where, pad=pad, end=end.key, uses=others)
        for name, jumper in end.jumper.items():
            if jumper.is_ != jumper.wanted:
                found, wanted = str(jumper.is_), str(jumper.wanted)
                yield make_finding("jumper-wrong", where, jumper=name, end=end.key, found=found, wanted=wanted)
        most = max((end.line_on(self.sheet.wire[wire].line).baud for wire in end.wires), default=0.0)
        if end.most_baud is not None and most > end.most_baud:
            yield make_finding("baud-too-high", where, end=end.key, baud=most, most=end.most_baud)

    def _of_wires(self) -> Iterator[Finding]:
        pairs: set[frozenset[str]] = set()
        for key, wire in self.sheet.wire.items():
            senders = [end for end in self.sheet.end.values() if key in end.sends]
            receivers = [end for end in self.sheet.end.values() if key in end.receives]
            if receivers and not senders:
                yield make_finding("no-sender", key)
            if senders and not receivers:
                yield make_finding("no-receiver", key)
            has_flow_pins = wire.line.flow_control == "rts-cts"
            for end in senders:
                yield from self._missing_pins(key, end, "sends", ("tx", "cts") if has_flow_pins else ("tx",))
            for end in receivers:
                yield from self._missing_pins(key, end, "receives", ("rx", "rts") if has_flow_pins else ("rx",))
            for sender, receiver in product(senders, receivers) if self.sheet.joint else ():
                yield from self._of_pair(key, sender, receiver, has_flow_pins=has_flow_pins)
                if (pair := frozenset((sender.key, receiver.key))) not in pairs:
                    pairs.add(pair)
                    yield from self._of_grounds(key, sender, receiver)

    def _missing_pins(self, wire: str, end: End, doing: str, roles: Sequence[Role]) -> Iterator[Finding]:
        """Yield which pins an end does not have that has some, but not those that it needs for a wire."""
        for role in roles:
            if end.pin and not self._pins(end, role, wire):
                yield make_finding("pin-missing", wire, end=end.key, doing=doing, name=wire, pin=NAMES[role])

    def _of_pair(self, wire: str, sender: End, receiver: End, *, has_flow_pins: bool) -> Iterator[Finding]:
        yield from self._joined(wire, sender, "tx", receiver, "rx")
        if has_flow_pins:
            yield from self._joined(wire, receiver, "rts", sender, "cts")
        yield from self._polarity(wire, sender, receiver)

    def _of_grounds(self, wire: str, sender: End, receiver: End) -> Iterator[Finding]:
        grounds = [self._nets(end, "ground", None) for end in (sender, receiver)]
        if sender.pin and receiver.pin and not grounds[0] & grounds[1] and not self._are_isolated(sender, receiver):
            yield make_finding("ground-missing", wire, sender=sender.key, receiver=receiver.key)

    def _are_isolated(self, end: End, other: End) -> bool:
        """Return whether signals join two ends, and every one of them through an isolator."""
        signals = [
            (mine.text, theirs.text)
            for mine, theirs in product(self._signals(end), self._signals(other))
            if self.net[mine.text] == self.net[theirs.text]
        ]
        return bool(signals) and not any(self.touching[mine] == self.touching[theirs] for mine, theirs in signals)

    def _signals(self, end: End) -> list[_Place]:
        places = [self.places[f"{end.key}.{name}"] for name in end.pin]
        return [place for place in places if place.role in (*OUTPUTS, *INPUTS)]

    def _joined(self, wire: str, giver: End, output: Role, taker: End, into: Role) -> Iterator[Finding]:
        """Yield a finding if an output is not joined to the input that it is for; both pins must be known."""
        outputs, inputs = self._pins(giver, output, wire), self._pins(taker, into, wire)
        if not outputs or not inputs or self._nets(giver, output, wire) & self._nets(taker, into, wire):
            return
        pins = {"output": outputs[0].text, "input": inputs[0].text}
        same = [
            (item, role)
            for item, other, role in ((giver, taker, output), (taker, giver, into))
            if self._nets(item, role, wire) & self._nets(other, role, wire)
        ]
        if same:
            roles = " and ".join(f"{NAMES[role]} to {NAMES[role]}" for _, role in same)
            yield make_finding("pins-swapped", wire, ends=(giver.key, taker.key), roles=roles, **pins)
        else:
            named = {"giver_role": NAMES[output], "giver": giver.key, "taker_role": NAMES[into], "taker": taker.key}
            yield make_finding("joint-missing", wire, **named, **pins)

    def _polarity(self, wire: str, sender: End, receiver: End) -> Iterator[Finding]:
        """Yield a finding if what inverts between two ends is not what their idle levels want."""
        declared = self.sheet.wire[wire].line
        idles = [end.line_on(declared).idle for end in (sender, receiver)]
        for out, into in self._joined_pins(wire, sender, receiver):
            flips = self.flips[out.text] ^ self.flips[into.text]
            drivers = [place.text for place in (out, into) if _is_inverted(place)]
            flips ^= len(drivers) == 1
            if flips != (idles[0] != idles[1]):
                yield make_finding(
                    "polarity-mismatch",
                    wire,
                    output=out.text,
                    rests=idles[0],
                    input=into.text,
                    expects=idles[1],
                    joint="inverts" if flips else "does not invert",
                    driver=drivers[0] if len(drivers) == 1 and flips else None,
                )

    def _joined_pins(self, wire: str, sender: End, receiver: End) -> Iterator[tuple[_Place, _Place]]:
        """Yield each output of a wire's sender with each input of a receiver that it is joined to."""
        for out, into in product(self._pins(sender, "tx", wire), self._pins(receiver, "rx", wire)):
            if self.net[out.text] == self.net[into.text]:
                yield out, into

    def follows_polarity(self, wire: str, receiver: End) -> bool:
        """Return whether joints lead from a sender of a wire to a receiver, which shows what inverts between them."""
        senders = [end for end in self.sheet.end.values() if wire in end.sends]
        return any(True for sender in senders for _ in self._joined_pins(wire, sender, receiver))

    def _of_net(self, places: list[_Place]) -> Iterator[Finding]:
        where = " ".join(place.text for place in places)
        outputs = [place for place in places if place.role in OUTPUTS]
        pushing = [place.text for place in outputs if place.pin.drive == "push-pull"]
        if len(pushing) > 1:
            yield make_finding("outputs-collide", where, pins=pushing)
        joints = [item for item in self.sheet.joint if any(place.text in item.joins for place in places)]
        every = [*(joint.pull_up_ohms for joint in joints), *(place.pin.pull_up_ohms for place in places)]
        pulls = [ohms for ohms in every if ohms is not None]
        if outputs and not pushing:
            if not pulls:
                yield make_finding("pull-up-missing", where, pins=[place.text for place in outputs])
            else:
                yield from self._slow_edge(where, outputs, places, joints, pulls)
        supplies = [place for place in places if place.role == "supply"]
        if supplies:
            yield from _of_supply(where, supplies)

    def _slow_edge(
        self, where: str, outputs: list[_Place], places: list[_Place], joints: list[Connection], pulls: list[float]
    ) -> Iterator[Finding]:
        farads = PIN_FARADS * len(places) + sum(joint.length_m * joint.farads_per_m for joint in joints)
        ohms = 1 / sum(1 / pull for pull in pulls)
        rise_s = RISE * ohms * farads
        baud = max(self._baud(place) for place in outputs)
        if rise_s > SLOW / baud:
            yield make_finding(
                "slow-edge",
                where,
                ohms=ohms,
                picofarads=farads * 1e12,
                rise_s=rise_s,
                bits=rise_s * baud,
                baud=baud,
                ohms_needed=SLOW / baud / RISE / farads,
            )

    def _of_joint(self, joint: Connection) -> Iterator[Finding]:
        places = [self.places[name] for name in joint.joins]
        where = " ".join(joint.joins)
        if not joint.translates and not joint.isolates:
            for out in places:
                for into in places:
                    if out.role in OUTPUTS and into.role in INPUTS:
                        yield from _of_levels(where, out, into)
        bauds = [self._baud(place) for place in places if place.role in (*OUTPUTS, *INPUTS)]
        if bauds and (evidence := _too_long(joint, places, max(bauds))):
            yield make_finding("cable-too-long", where, **evidence)

    def _baud(self, place: _Place) -> float:
        wires = [place.pin.wire] if place.pin.wire else list(place.end.wires)
        return max(place.end.line_on(self.sheet.wire[wire].line).baud for wire in wires)

    def _pins(self, end: End, role: Role, wire: str | None) -> list[_Place]:
        places = [self.places[f"{end.key}.{name}"] for name in end.pin]
        return [place for place in places if place.role == role and (wire is None or place.pin.wire in (None, wire))]

    def _nets(self, end: End, role: Role, wire: str | None) -> set[int]:
        return {self.net[pin.text] for pin in self._pins(end, role, wire)}


def _is_inverted(place: _Place) -> bool:
    return place.levels is not None and place.levels.is_inverted


def _of_levels(where: str, out: _Place, into: _Place) -> Iterator[Finding]:
    """Yield whether an input bears and reads what an output drives."""
    driven, read = out.levels, into.levels
    if driven is None or read is None:
        return
    least, low, high, most = driven.output
    is_pushing = out.pin.drive == "push-pull"
    if (is_pushing and most > read.limit[1]) or least < read.limit[0]:
        drives = f"{least:g} to {most:g} V" if least < read.limit[0] else f"up to {most:g} V"
        limits = {"least_v": read.limit[0], "most_v": read.limit[1]}
        is_driver = _is_inverted(out) != _is_inverted(into)
        evidence = {"output": out.text, "drives": drives, "input": into.text, **limits, "line_driver": is_driver}
        yield make_finding("level-too-high", where, **evidence)
    elif low > read.input[0] or (is_pushing and high < read.input[1]):
        yield make_finding(
            "level-not-read",
            where,
            output=out.text,
            low_v=low,
            high_v=high,
            input=into.text,
            reads_low_v=read.input[0],
            reads_high_v=read.input[1],
        )


def _of_supply(where: str, places: list[_Place]) -> Iterator[Finding]:
    """Yield whether a supply gives what is drawn from it, at a voltage that is borne."""
    givers = [place for place in places if place.pin.gives_a is not None]
    takers = [place for place in places if place.pin.draws_a is not None]
    if len(givers) > 1:
        yield make_finding("outputs-collide", where, supplies=[giver.text for giver in givers])
    given, drawn = (sum(amperes or 0.0 for amperes in every) for every in (
        [giver.pin.gives_a for giver in givers], [taker.pin.draws_a for taker in takers]))  # fmt: skip
    if givers and drawn > given:
        yield make_finding(
            "supply-too-weak",
            where,
            pins=[taker.text for taker in takers],
            drawn_ma=drawn * 1e3,
            supply=givers[0].text,
            given_ma=given * 1e3,
        )
    for combination, other in combinations(places, 2):
        if (
            combination.pin.volts is not None
            and other.pin.volts is not None
            and combination.pin.volts != other.pin.volts
        ):
            pair = {
                "first": combination.text,
                "first_v": combination.pin.volts,
                "second": other.text,
                "second_v": other.pin.volts,
            }
            yield make_finding("supply-too-weak", where, **pair)


def _too_long(joint: Connection, places: list[_Place], baud: float) -> dict[str, float]:
    """Return the evidence that a joint is too long for its levels and baud; nothing if it is not."""
    length_m = joint.length_m
    names = {place.pin.levels or place.end.levels for place in places}
    if "eia-485" in names:
        if length_m > LONGEST_485_M or length_m * baud > MOST_485_METRE_BAUDS:
            most = min(LONGEST_485_M, MOST_485_METRE_BAUDS / baud)
            return {"length_m": length_m, "baud": baud, "most_m": most}
    elif "eia-232" in names:
        farads = length_m * joint.farads_per_m
        if farads > MOST_232_FARADS:
            most = MOST_232_FARADS * 1e12
            return {"length_m": length_m, "picofarads": farads * 1e12, "most_picofarads": most}
    elif names - {None} and length_m > LONGEST_LOGIC_M and not joint.isolates:
        return {"length_m": length_m, "most_logic_m": LONGEST_LOGIC_M}
    return {}
