"""The kinds of findings about receive and send paths, and about flow control."""

from __future__ import annotations

from collections.abc import Mapping

from .kind import Kind

LOST = "They are lost in {stretches:count stretch}, at most {longest:,} in any, because {stage}, of {size:,}, is full."

PATHS: Mapping[str, Kind] = {
    "predicted-overrun": Kind(
        "error",
        "character that the hardware would lose",
        "characters that the hardware would lose",
        "With the declared receive path the FIFO, or the data register, is still full when the next character is "
        "complete.",
        (
            "{!slowest_s}Serve it sooner: a higher priority, shorter stretches without service, a lower trigger, or "
            "DMA.",
            "With a {delay} of {slowest_s:time} or less nothing is lost there.",
        ),
        detail=LOST,
    ),
    "predicted-overflow": Kind(
        "error",
        "character that a buffer would lose",
        "characters that a buffer would lose",
        "The declared receive path has no room for it when it arrives.",
        (
            "{!remedy}Make the buffer larger, let the application look more often, or pause the sender in time.",
            "A ring of {ring_needed:,} loses nothing of this.",
            "By arithmetic {ring_bound:,} are enough, whatever the phases.",
            "{?ring_needed}{?paused}Or pause the sender earlier.",
            "{?ring_needed}{!paused}Or pause the sender in time.",
            "With a latency of {slowest_s:time} or less nothing is lost there.",
        ),
        detail=LOST,
        also=("remedy", "paused"),
    ),
    "discarded-characters": Kind(
        "error",
        "character that the application would discard",
        "characters that the application would discard",
        "It was received, and is dropped with a read that its time limit ended, or with the rest of a line that is too "
        "long.",
        "Keep what a read has got when its time is up, or give it more time; make the line buffer larger.",
    ),
    "misaligned-read": Kind(
        "error",
        "read that begins inside a message",
        "reads that begin inside a message",
        "Reads of a fixed length are out of step with the messages, and nothing brings them back.",
        "End a read with the message: by its length field, its terminator, or the idle line; discard the rest after a "
        "read that was too short.",
        detail=(
            "The first begins at character {inside:,} of a message of {usual:,}",
            ", after {short:count message} of another length",
            "{?usual}.",
            "{?by_rests}No frame is declared; messages are taken to end where the line rests.",
        ),
        among="whole reads",
        also=("by_rests",),
    ),
    "stuck-read": Kind(
        "error",
        "read that never returns",
        "reads that never return",
        (
            "{?certain}The application waits for characters that never arrive, and takes nothing more out of the ring.",
            "{!certain}The capture ends while the application waits in a read: either the rest of a message follows, "
            "or the read never returns.",
        ),
        "Give the read a time limit, ask for no more than the ring can hold, and make sure that the sender sends what "
        "the read waits for.",
        detail=(
            "{left:count character} {left:is} there at the end, and not taken",
            "; the last read returned at {last_s:.6f} s.",
            "{!last_s}; no read ever returned.",
        ),
    ),
    "sender-overflow": Kind(
        "error",
        "character that the sender could not hold back",
        "characters that the sender could not hold back",
        "While it is paused, the sender has no room for the characters it must send.",
        "Pause for shorter: a higher mark to resume at, an application that takes more at a time; or a larger buffer "
        "at the sender.",
    ),
    "little-room": Kind(
        "warning",
        "place with little room",
        "places with little room",
        "Nothing is lost, but there is little headroom.",
        "Leave room for what the sheet does not declare: other interrupts, a debugger, a longer burst.",
        detail=(
            "{wire}: up to {needed:,} of the ring's {capacity:,} places are taken.",
            "{wire}: the service's {delay} is {declared_s:time}; from {slowest_s:time} on it is too late.",
        ),
    ),
    "waiting-tail": Kind(
        "warning",
        "message whose end waits in the hardware",
        "messages whose ends wait in the hardware",
        "The last characters of a message are too few to raise an interrupt, and wait until the next message brings "
        "more.",
        "Let the hardware report an idle line too (idle_characters of the FIFO, the idle notice of DMA), or set the "
        "trigger to 1.",
        detail=(
            "{wire}: characters wait in {stage} for up to {longest_s:time}.",
            "{wire}: {left:count character} {left:is} still in {stage} at the end.",
        ),
    ),
    "busy-processor": Kind(
        "warning",
        "busy processor",
        "busy processors",
        "Serving the line takes a large share of the processor's time.",
        "Use a FIFO with a higher trigger, DMA, or look less often.",
        detail="{wire}: serving it takes {share:.0%} of the processor's time; the longest stretch without a rest is "
        "{longest_s:time}.",
    ),
    "large-request": Kind(
        "error",
        "request that is too large",
        "requests that are too large",
        "A read asks for more than there is room for.",
        "Ask for at most as many characters as the buffer holds, less 1 if a NUL follows them.",
        detail=(
            "{wire}: a read asks for {length:count character}",
            "{?terminated} and a NUL",
            ", and its buffer has {room:count place}.",
            "{?length}, and waits until they are in the ring, which holds {ring:,}.",
            "{wire}: a line may have {line:,} characters, and the ring holds {ring:,}: a longer line is never taken "
            "out of it.",
        ),
        also=("terminated",),
    ),
    "pause-unused": Kind(
        "warning",
        "pause that is never requested",
        "pauses that are never requested",
        "The receive path declares a pause, but the line has no flow control.",
        'Set flow_control = "rts-cts" or "xon-xoff" for the line, if both ends have it.',
        detail="{wire}: [receive.{wire}] has a pause, and the line is {line}.",
    ),
    "control-in-payload": Kind(
        "error",
        "pause character inside the payload",
        "pause characters inside the payload",
        "With XON/XOFF the values 0x11 and 0x13 mean resume and pause; as a part of binary data they stop the other "
        "direction, and some receivers swallow them.",
        "Escape them, send binary data as text, or use RTS and CTS instead.",
        detail=(
            "{wire}: frame {frame} can hold 0x11 or 0x13:",
            "{always:list} always does",
            "{?always}{?may};",
            "{may:list} may",
            "{?declared}.",
        ),
        also=("declared",),
    ),
    "deaf-receiver": Kind(
        "error",
        "character that a deaf receiver missed or misread",
        "characters that a deaf receiver missed or misread",
        "The receiver in software was not listening when they began, or took a data bit for a start bit when it "
        "listened again.",
        "Keep interrupts on while characters may arrive, let the sender rest after a pause of more than a character, "
        "or use a UART in hardware.",
        detail="{missed:,} are missed, {misread:,} misread, and {spurious:,} begin where none does, on a data bit; "
        "{framing:count framing error} {framing:is} reported.",
    ),
    "overwritten-value": Kind(
        "error",
        "character that is overwritten before it is sent",
        "characters that are overwritten before they are sent",
        "The code writes to the data register without waiting until it is empty.",
        "Wait for the empty flag before each write, or write no faster than the line sends.",
    ),
    "cut-tail": Kind(
        "error",
        "message whose end is not sent whole",
        "messages whose ends are not sent whole",
        "The sender gives up, or releases the wire, before the last character is out.",
        "Make the time limit longer than the message, and release a shared wire when the last character is complete, "
        "not when the register is empty.",
        detail=(
            "{lost:count character} {lost:does} not arrive whole",
            ": the call sends {sent:,} of {length:,}",
            ": the wire is released {short_s:time} before the last character is complete",
            ".",
        ),
        among="messages",
    ),
    "short-limit": Kind(
        "error",
        "time limit that is too short",
        "time limits that are too short",
        "A call that waits ends before its message can be sent, whatever else happens.",
        "Make the limit longer than the message takes on the line.",
        detail="{wire}: a message of {length:count character} is {done} after {needed_s:time}, and the call waits "
        "{limit_s:time}.",
    ),
    "sent-nul": Kind(
        "warning",
        "NUL that is sent with a text",
        "NULs that are sent with a text",
        "The length counts the NUL that ends the text in memory, so the NUL is sent too.",
        "Send the length of the text without its NUL.",
        detail="{wire}: every message has an extra character, 0x00.",
    ),
    "send-overflow": Kind(
        "error",
        "character that does not fit into the send buffer",
        "characters that do not fit into the send buffer",
        "The call drops what does not fit into the buffer.",
        "Make the buffer larger, send less at a time, or check what the call returns and send the rest later.",
    ),
    "late-release": Kind(
        "error",
        "shared wire that is released too late",
        "shared wires that are released too late",
        "The sender still drives the wire when the other end may answer.",
        "Release it when the last character is complete, with no more latency than the other end leaves.",
        detail="It is still driven {late_s:time} after the last character, and the other end may answer after "
        "{reply_s:time}.",
        among="messages",
    ),
    "pause-ignored": Kind(
        "error",
        "pause that the sender ignores",
        "pauses that the sender ignores",
        "The other end requests pauses, and the sender continues as if there were none.",
        "Switch flow control on at the sender; check that the wire, or the character, reaches it, and that no layer "
        "swallows it.",
        detail=(
            "{sent:count character} went out in {ignored:,} of {long:count pause} long enough to show it.",
            "From {kept_from_s:.6f} s on pauses are kept: flow control was switched on by then.",
        ),
    ),
    "pause-reversed": Kind(
        "error",
        "clear-to-send signal with its levels reversed",
        "clear-to-send signals with their levels reversed",
        "{share:.0%} of its characters begin while the signal forbids it.",
        "The signal is active low at a controller's pins; look for an inverter too many, for RTS that means sending, "
        "or for RTS and CTS exchanged.",
        detail=(
            "{?never}No character is ever held back by it.",
            "{?own}Each change surrounds the sender's own characters: it is the sender's RTS, taken for its CTS.",
        ),
        also=("never", "own"),
    ),
    "never-resumed": Kind(
        "error",
        "pause that never ends",
        "pauses that never end",
        "The sender was asked to pause and never asked to resume.",
        "Look for an XON that was lost, sent too early or swallowed; let the sender resume by itself after a time.",
        detail="From then to the end of the capture, {lasted_s:time}, the wire rests.",
    ),
    "clear-never-moves": Kind(
        "warning",
        "clear-to-send signal that never moves",
        "clear-to-send signals that never move",
        "The signal kept its level in the whole capture.",
        "Check that the pin is wired, set up as RTS at the receiver, and named from the right end; if the receiver "
        "never filled up, that is correct.",
        detail=(
            "{?forbids}The signal stayed at level {level}, which forbids sending; {sent:count character} {sent:was} "
            "sent all the same.",
            "{!forbids}The signal stayed at level {level}, which allows sending.",
        ),
        also=("forbids",),
    ),
}
