"""The result of a loopback: counts, error ratio, latencies, the parts of the cycle, and the verdict."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

import numpy as np
import numpy.typing as npt

from larkreader.declare.link.line import LineSettings
from larkreader.declare.run.loopback import Alteration, LoopbackPlan
from larkreader.shown import Shown

Stopped = Literal["", "time", "silence", "interrupted"]

SURE_Z = 1.959964  # quantile of the normal distribution for 95 %, both sides
SURE_SHARE = 0.05  # what 95 % leave


class Latency(NamedTuple):
    """From the write of a block to the return of its last character, in seconds.

    Parameters
    ----------
    shortest, median, most, longest : float
        ``most`` is the time that 99 % of the blocks do not exceed.
    """

    shortest: float
    median: float
    most: float
    longest: float


class Cycle(NamedTuple):
    """What the time of a run went into, in seconds on the port's clock.

    Parameters
    ----------
    send_s : float
        Until the port had taken what was written.
    wait_s : float
        Until something returned.
    receive_s : float
        Until the rest had.
    rest_s : float
        Of pauses between blocks in which nothing was awaited.
    own_s : float
        Of the program itself.
    """

    send_s: float
    wait_s: float
    receive_s: float
    rest_s: float
    own_s: float


@dataclass(frozen=True)
class Difference:
    """The first place where what returned is not what was expected.

    Parameters
    ----------
    offset : int
        Number of the first character that did not come as it was to, counted from 0.
    begin : int
        Number of the first of the characters in `sent` and `received`.
    sent, received : bytes
        What stood around it, as a port takes it; `sent` is what was expected.
    """

    offset: int
    begin: int
    sent: bytes
    received: bytes


@dataclass(frozen=True, eq=False)
class LoopbackResult(Shown):
    """The result of one run of a loopback.

    Parameters
    ----------
    plan : LoopbackPlan
        What was asked for.
    line : LineSettings, optional
        The settings whose rate the measured one is compared with.
    sent, received : int
        Characters that went out and returned.
    lost, changed, extra, doubled : int
        Characters that were not received, received with another value, received but not sent, and those of the
        latter that repeat their neighbours.
    difference : Difference, optional
        The first place where the two differ.
    duration_s : float
        From the first write to the last character, in seconds on the port's clock.
    planned : int
        Characters that were to go out.
    bit_errors : ndarray of int64, shape (data_bits,)
        How many bits at each place of the changed characters are wrong.
    latencies_s : ndarray of float64, shape (n_blocks,)
        From the write of each block to the return of its last character, in seconds; NaN where that did not come. Two
        blocks are under way at a time, so that each waits for the other; a plan with ``block=1`` gives the time of a
        character.
    cycle : Cycle
        What the time went into.
    before : bytes
        What had arrived before anything was sent, or before the sequence was seen; it counts nowhere.
    faults : mapping of str to int
        How many characters had a fault of the line, by the names of `Fault`; empty where the port does not report them.
    stopped : {"", "time", "silence", "interrupted"}
        What ended the run before all was sent: its time, a port that gave nothing at all, or an interrupt.
    name : str
        What it was run on.
    constant : Alteration, optional
        The one change that all characters returned with, where they all differ alike.
    """

    plan: LoopbackPlan
    line: LineSettings | None
    sent: int
    received: int
    lost: int
    changed: int
    extra: int
    doubled: int
    difference: Difference | None
    duration_s: float
    planned: int
    bit_errors: npt.NDArray[np.int64]
    latencies_s: npt.NDArray[np.float64]
    cycle: Cycle
    before: bytes = b""
    faults: Mapping[str, int] = field(default_factory=dict)
    stopped: Stopped = ""
    name: str = ""
    constant: Alteration | None = None

    @property
    def compared(self) -> int:
        """How many bits were compared, those of the characters that arrived as they were or changed."""
        return (self.received - self.extra) * self.plan.data_bits

    @property
    def error_ratio(self) -> float:
        """Which share of the compared bits is wrong; NaN if none was compared."""
        return float(self.bit_errors.sum()) / self.compared if self.compared else float("nan")

    @property
    def error_interval(self) -> tuple[float, float]:
        """Between what the true error ratio lies, with 95 % confidence.

        Without an error from 0 to ``1 - 0.05 ** (1 / n)``; else Wilson's score interval (E. B. Wilson, 1927). Errors
        that come in bursts spread more than that.
        """
        n, wrong = self.compared, int(self.bit_errors.sum())
        if not n:
            return 0.0, 1.0
        if not wrong:
            return 0.0, float(1 - SURE_SHARE ** (1 / n))
        share, z2 = wrong / n, SURE_Z**2
        middle = share + z2 / (2 * n)
        spread = SURE_Z * float(np.sqrt(share * (1 - share) / n + z2 / (4 * n * n)))
        return (middle - spread) / (1 + z2 / n), (middle + spread) / (1 + z2 / n)

    @property
    def latency_s(self) -> Latency | None:
        """The spread of `latencies_s`; None if no block returned."""
        known = self.latencies_s[~np.isnan(self.latencies_s)]
        if not len(known):
            return None
        return Latency(*(float(np.quantile(known, share, method="higher")) for share in (0.0, 0.5, 0.99, 1.0)))

    @property
    def failures(self) -> tuple[str, ...]:
        """Why the run fails, one sentence each; empty if it passes."""
        limits, result = self.plan.limits, []
        if self.stopped == "silence":
            result.append("nothing received")
        elif self.stopped == "interrupted":
            result.append("it was interrupted")
        elif not self.stopped and self.sent < self.planned:
            result.append(f"{self.planned - self.sent:,} characters were not sent")
        for what, count, most in (
            ("lost", self.lost, limits.lost),
            ("changed", self.changed, limits.changed),
            ("extra", self.extra, limits.extra),
        ):
            if count > most:
                result.append(f"{count:,} {what}" + (f", {most:,} allowed" if most else ""))
        if self.constant is not None:
            result.append(self.constant_text)
        high = self.error_interval[1] if not self.bit_errors.any() else self.error_ratio
        if limits.error_ratio is not None and not high <= limits.error_ratio:
            what = "error ratio" if self.bit_errors.any() else "upper bound of the error ratio"
            result.append(f"{what} {high:.2g}, {limits.error_ratio:.2g} allowed")
        latency = self.latency_s
        if limits.latency_s is not None and (latency is None or latency.longest > limits.latency_s):
            found = "no block returned" if latency is None else f"slowest block {latency.longest * 1e3:.4g} ms"
            result.append(f"{found}, {limits.latency_s * 1e3:.4g} ms allowed")
        if limits.line_share is not None and self.line_share is not None and self.line_share < limits.line_share:
            result.append(f"{100 * self.line_share:.1f} % of the line, {100 * limits.line_share:.1f} % wanted")
        if not self.plan.sends and not self.received:
            result.append("no sequence was found")
        return tuple(dict.fromkeys(result))

    @property
    def constant_text(self) -> str:
        """How every character differs, and how to declare that it is meant; empty where they do not differ alike."""
        if self.constant is None:
            return ""
        add, mask = self.constant.add, f"0x{self.constant.xor:02X}"
        text = f"every character returned {f'{add:+d}' if add else f'with the bits {mask} inverted'}"
        if self.plan.expect != "same":
            return text
        return f"{text}; if that is meant: --expect altered {f'--add {add}' if add else f'--xor {mask}'}"

    @property
    def verdict(self) -> Literal["pass", "fail"]:
        """``"pass"`` if nothing went wrong beyond what the plan allows."""
        return "fail" if self.failures else "pass"

    @property
    def characters_per_second(self) -> float:
        """Characters that returned a second."""
        return self.received / self.duration_s if self.duration_s > 0 else 0.0

    @property
    def line_share(self) -> float | None:
        """The measured rate as a share of what the line carries at most; None where its settings are not known."""
        return None if self.line is None else self.characters_per_second / self.line.characters_per_second

    def to_dict(self) -> dict[str, Any]:
        """Return the result as JSON has it."""
        first, latency = self.difference, self.latency_s
        low, high = self.error_interval
        return {
            "verdict": self.verdict,
            "failures": list(self.failures),
            "stopped": self.stopped or None,
            "line": None if self.line is None else str(self.line),
            "pattern": self.plan.pattern,
            "block": self.plan.block,
            "pause_s": self.plan.pause_s,
            "planned": self.planned,
            "sent": self.sent,
            "received": self.received,
            "lost": self.lost,
            "changed": self.changed,
            "extra": self.extra,
            "doubled": self.doubled,
            "constant": self.constant and self.constant.model_dump(),
            "before": len(self.before),
            "faults": dict(self.faults),
            "bits": {
                "compared": self.compared,
                "wrong": int(self.bit_errors.sum()),
                "wrong_by_position": self.bit_errors.tolist(),
                "error_ratio": self.error_ratio if self.compared else None,
                "error_ratio_95": [low, high],
            },
            "duration_s": round(self.duration_s, 9),
            "characters_per_second": round(self.characters_per_second, 3),
            "line_share": None if self.line_share is None else round(self.line_share, 6),
            "latency_s": None
            if latency is None
            else {name: round(item, 9) for name, item in latency._asdict().items()},
            "cycle": {name: round(item, 9) for name, item in self.cycle._asdict().items()},
            "first_difference": first
            and {
                "offset": first.offset,
                "begin": first.begin,
                "sent": first.sent.hex(" "),
                "received": first.received.hex(" "),
            },
        }
