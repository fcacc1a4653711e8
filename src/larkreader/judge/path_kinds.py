"""The kinds of findings about receive and send paths, and about flow control."""

from __future__ import annotations

from collections.abc import Mapping

from .kind import Kind

PATHS: Mapping[str, Kind] = {
    "predicted-overrun": Kind(
        "error",
        "character that the hardware would lose",
        "characters that the hardware would lose",
        "By the declared receive path the FIFO, or the data register, is still full when the next character is "
        "complete.",
        "Serve it sooner: a higher priority, shorter stretches without service, a lower trigger, or DMA.",
    ),
    "predicted-overflow": Kind(
        "error",
        "character that a buffer would lose",
        "characters that a buffer would lose",
        "By the declared receive path there is no room for it when it gets there.",
        "Make the buffer larger, let the application look more often, or pause the sender in time.",
    ),
    "discarded-characters": Kind(
        "error",
        "character that the application would throw away",
        "characters that the application would throw away",
        "It was received, and is dropped with a read that its time limit ended, or with the rest of a line that is too "
        "long.",
        "Keep what a read has got when its time is up, or give it more time; make the line buffer larger.",
    ),
    "misaligned-read": Kind(
        "error",
        "read that begins inside a message",
        "reads that begin inside a message",
        "Reads of a fixed length are out of step with the messages, and nothing brings them back.",
        "Let a read end with the message: by its length field, its terminator, or the idle line; throw away what is "
        "there after a read that was too short.",
    ),
    "stuck-read": Kind(
        "error",
        "read that never returns",
        "reads that never return",
        "The application waits for something that does not come, and nothing is taken out of the ring any more.",
        "Give the read a time limit, ask for no more than the ring can hold, and make sure that what it waits for is "
        "sent.",
    ),
    "sender-overflow": Kind(
        "error",
        "character that the sender could not hold back",
        "characters that the sender could not hold back",
        "While it is paused, the sender has no room for what it is to send.",
        "Pause for shorter: a higher mark to go on at, an application that takes more at a time; or a larger buffer "
        "at the sender.",
    ),
    "little-room": Kind(
        "warning",
        "place with little room",
        "places with little room",
        "Nothing is lost, but little is missing until something is.",
        "Leave room for what the sheet does not say: other interrupts, a debugger, a longer burst.",
    ),
    "waiting-tail": Kind(
        "warning",
        "message whose end waits in the hardware",
        "messages whose ends wait in the hardware",
        "Nobody is told of the last characters of a message, as they are too few, until the next one brings more.",
        "Let the hardware tell of an idle line too (idle_characters of the FIFO, the idle notice of DMA), or ask at 1.",
    ),
    "busy-processor": Kind(
        "warning",
        "processor that is kept busy",
        "processors that are kept busy",
        "Serving the line takes a large share of the processor's time.",
        "Use a FIFO with a higher trigger, DMA, or look less often.",
    ),
    "large-request": Kind(
        "error",
        "request that is too large",
        "requests that are too large",
        "A read asks for more than there is room for.",
        "Ask for as many characters as the buffer has places, and one less where a NUL is put behind them.",
    ),
    "pause-unused": Kind(
        "warning",
        "pause that nobody is asked for",
        "pauses that nobody is asked for",
        "The receive path says when to pause, but the line has no flow control.",
        'Write flow_control = "rts-cts" or "xon-xoff" with the line, if both ends have it.',
    ),
    "control-in-payload": Kind(
        "error",
        "pause character inside the payload",
        "pause characters inside the payload",
        "With XON/XOFF the values 0x11 and 0x13 mean go on and pause; as a part of binary data they stop the other "
        "direction, and some receivers swallow them.",
        "Escape them, send binary data as text, or use RTS and CTS instead.",
    ),
    "deaf-receiver": Kind(
        "error",
        "character that a deaf receiver missed or misread",
        "characters that a deaf receiver missed or misread",
        "The receiver in software was not listening when they began, or took a data bit for a start bit when it "
        "listened again.",
        "Keep interrupts on while characters may come, let the sender rest after a pause of more than a character, or "
        "use a UART in hardware.",
    ),
    "overwritten-value": Kind(
        "error",
        "character that is written over before it is sent",
        "characters that are written over before they are sent",
        "The code writes to the data register without waiting until it is empty.",
        "Wait for the empty flag before each write, or write no faster than the line sends.",
    ),
    "cut-tail": Kind(
        "error",
        "message whose end is not sent whole",
        "messages whose ends are not sent whole",
        "The sender gives up, or lets go of the wire, before the last character is out.",
        "Let the time limit be longer than the message, and let go of a shared wire when the last character is "
        "complete, not when the register is empty.",
    ),
    "short-limit": Kind(
        "error",
        "time limit that is too short",
        "time limits that are too short",
        "A call that waits is ended before its message can be sent, whatever else happens.",
        "Let the limit be longer than the message takes on the line.",
    ),
    "sent-nul": Kind(
        "warning",
        "NUL that is sent with a text",
        "NULs that are sent with a text",
        "The length counts the NUL that ends the text in memory, so that it goes out too.",
        "Send the length of the text without its NUL.",
    ),
    "send-overflow": Kind(
        "error",
        "character that the send buffer has no room for",
        "characters that the send buffer has no room for",
        "The call drops what does not fit into the buffer.",
        "Make the buffer larger, send less at a time, or look at what the call returns and send the rest later.",
    ),
    "late-release": Kind(
        "error",
        "shared wire that is let go too late",
        "shared wires that are let go too late",
        "The sender still drives the wire when the other end may answer.",
        "Let go when the last character is complete, with no more latency than the other end leaves.",
    ),
    "pause-ignored": Kind(
        "error",
        "sender that does not pause",
        "senders that do not pause",
        "The other end asks for pauses, and the sender goes on as if nobody had.",
        "Switch flow control on at the sender; check that the wire, or the character, reaches it, and that no layer "
        "swallows it.",
    ),
    "pause-reversed": Kind(
        "error",
        "clear-to-send signal with its levels reversed",
        "clear-to-send signals with their levels reversed",
        "The sender sends while the signal forbids it, and rests while it allows it.",
        "The signal is active low at a controller's pins; look for an inverter too many, for RTS that means sending, "
        "or for RTS and CTS exchanged.",
    ),
    "never-resumed": Kind(
        "error",
        "pause that never ends",
        "pauses that never end",
        "The sender was asked to pause and never told to go on.",
        "Look for an XON that was lost, sent too early or swallowed; let the sender go on by itself after a time.",
    ),
    "clear-never-moves": Kind(
        "warning",
        "clear-to-send signal that never moves",
        "clear-to-send signals that never move",
        "The signal kept its level in the whole capture.",
        "Check that the pin is wired, set up as RTS at the receiver, and named from the right end; if the receiver "
        "never filled up, that is as it should be.",
    ),
}
