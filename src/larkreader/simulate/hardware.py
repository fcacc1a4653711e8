"""The receiver's hardware: a FIFO with the shift register before it, and DMA that fetches from them into a block.

The tables give the state that follows a state and an event. All times are whole nanoseconds.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping

from larkreader.declare.paths.receive_path import ReceivePath
from larkreader.declare.paths.receive_services import DmaService

from .outcomes import Outcomes
from .replayed import Fate
from .senders import NEVER, Ahead

FREE, WAITING = "free", "waiting"
NO_ROOM, START_BIT, FETCH = "complete, and the FIFO is full", "start bit", "fetch"
SHIFT_REGISTER: Mapping[tuple[str, str], str] = {
    (FREE, NO_ROOM): WAITING,  # where the hardware lets it wait; else it is lost
    (WAITING, START_BIT): FREE,  # it is overwritten: lost
    (WAITING, FETCH): FREE,  # it moves up
}
"""A complete character moves into the FIFO at once, or waits in the shift register."""

ARMED, ENDING, ENDED, HANDLED, UNARMED = "armed", "ending", "ended", "handled", "unarmed"
IDLE, FULL, ENTER, LEAVE, ARM = "idle line", "block full", "handler enters", "handler has all", "armed again"
DMA: Mapping[tuple[str, str], str] = {
    (ARMED, IDLE): ENDING,
    (ARMED, FULL): ENDED,
    (ARMED, ENTER): ARMED,  # half of the block is full
    (ENDING, IDLE): ENDING,
    (ENDING, FULL): ENDED,
    (ENDING, ENTER): HANDLED,
    (ENDED, IDLE): ENDED,
    (ENDED, ENTER): HANDLED,
    (HANDLED, IDLE): HANDLED,
    (HANDLED, ENTER): HANDLED,  # once more, as the ring had no room
    (HANDLED, LEAVE): UNARMED,
    (UNARMED, ARM): ARMED,
}
"""DMA that is not circular; it fetches into its block while it is armed or ending."""


class Hardware:
    """The FIFO, and the shift register before it."""

    __slots__ = ("held", "idle_at", "shift_waits", "size", "state", "trigger", "waiting")

    def __init__(self, path: ReceivePath) -> None:
        self.held: deque[int] = deque()
        self.state: str = FREE
        self.waiting: int = -1  # the character that waits in the shift register
        self.size: int = path.fifo.size
        self.trigger: int = path.fifo.trigger
        self.shift_waits: bool = path.fifo.shift_waits
        self.idle_at: int = NEVER  # when the line has been idle for long enough

    def take(self, number: int, at: int, begin: int, outcomes: Outcomes) -> None:
        """Take in a character that is complete; its start bit has overwritten one that waits."""
        if self.waiting >= 0:
            outcomes.lose(self.waiting, begin, Fate.OVERRUN)
            self.state, self.waiting = SHIFT_REGISTER[self.state, START_BIT], -1
        if len(self.held) < self.size:
            self.held.append(number)
        elif self.shift_waits:
            self.state, self.waiting = SHIFT_REGISTER[self.state, NO_ROOM], number
        else:
            outcomes.lose(number, at, Fate.OVERRUN)

    def move_up(self) -> None:
        """Let what waits in the shift register into the FIFO."""
        self.held.append(self.waiting)
        self.state, self.waiting = SHIFT_REGISTER[self.state, FETCH], -1


class Block:
    """The memory into which DMA fetches characters."""

    __slots__ = ("arm_at", "circular", "filled", "full", "half", "held", "is_armed", "places", "state")

    def __init__(self, service: DmaService) -> None:
        self.held: deque[int] = deque()
        self.places: int = service.block
        self.circular: bool = service.circular
        self.half: int = service.block // 2 if "half" in service.notices else 0
        self.full: int = service.block if "full" in service.notices else 0
        self.filled: int = 0  # places, since DMA began at the front
        self.arm_at: int = NEVER  # when it is armed again
        self.state: str = ARMED
        self.is_armed: bool = True

    def note(self, event: str) -> None:
        """Go on to the state that follows; circular DMA stays armed."""
        if not self.circular:
            self.state = DMA[self.state, event]
            self.is_armed = self.state in (ARMED, ENDING)

    @property
    def room(self) -> int:
        """How many characters can be put in before something else happens: a notice, or the end of the block."""
        boundary = self.half if self.filled < self.half else self.places
        return min(boundary - self.filled, self.places - len(self.held)) - 1

    def put_all(self, first: int, count: int, ahead: Ahead, outcomes: Outcomes) -> None:
        """Put in characters that follow one another, no more than `room`."""
        outcomes.many.fetch_at_once(first, count, ahead)
        self.held.extend(range(first, first + count))
        self.filled += count

    def put(self, number: int, at: int, outcomes: Outcomes) -> bool:
        """Put a character in; return whether DMA asks for service."""
        outcomes.fetched[number] = at
        held = self.held
        if len(held) == self.places:  # what is there is not stored yet: it is written over
            for lost in held:
                outcomes.lose(lost, at, Fate.BLOCK)
            held.clear()
        held.append(number)
        self.filled += 1
        if self.filled == self.places:
            self.filled = 0
            self.note(FULL)
            return bool(self.full)
        return self.filled == self.half
