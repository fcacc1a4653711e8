"""The one table of all kinds of findings: how bad each is, what it means, what to do."""

from __future__ import annotations

from collections.abc import Mapping

from .kind import Kind
from .path_kinds import PATHS
from .setup_kinds import SETUP
from .turn_kinds import TURNS

SEEN: Mapping[str, Kind] = {
    "parity-error": Kind(
        "error",
        "parity error",
        "parity errors",
        "A bit of the character changed on the way, or the two ends do not mean the same parity.",
        "If few: look for noise, a missing ground or a weak driver. If most: compare the parity at both ends.",
    ),
    "framing-error": Kind(
        "error",
        "framing error",
        "framing errors",
        "The line was not at idle level where the stop bit should be.",
        "Compare baud and character format at both ends; then look for a receiver that began in mid-character.",
    ),
    "break": Kind(
        "warning",
        "break",
        "breaks",
        "The line stayed at start level for a whole character: a break that was sent, or a wire that came loose.",
        "If nobody sends breaks, check the wire, the sender's supply, and whether its pin is set up as an output.",
    ),
    "noise": Kind(
        "warning",
        "noisy character",
        "noisy characters",
        "The three samples of a bit did not agree.",
        "Look for noise, slow edges or a baud at the limit of what the receiver tolerates.",
    ),
    "unknown-level": Kind(
        "warning",
        "character of unknown level",
        "characters of unknown level",
        "The capture does not know the level of the wire (undefined or undriven) for a part of the character.",
        "Check that somebody drives the wire at all times, or that a pull-up holds it at idle level.",
    ),
    "false-start": Kind(
        "warning",
        "false start",
        "false starts",
        "The line left idle level and was back half a bit later; nothing was received.",
        "Look for spikes: crosstalk, a missing ground, a pin that is switched over while the line is idle.",
    ),
    "cut-character": Kind(
        "note",
        "cut-off character",
        "cut-off characters",
        "The capture begins or ends inside a character, which is not counted.",
        "Begin recording while the line is idle, and record a little longer than the last character.",
    ),
    "cut-capture": Kind(
        "warning",
        "cut-off capture",
        "cut-off captures",
        "The file breaks off; what comes before was read.",
        "Record again, or copy the file again; what the recording program still held when it ended is lost.",
    ),
    "coarse-capture": Kind(
        "warning",
        "coarse capture",
        "coarse captures",
        "The capture has few samples a bit, so that it may show errors that the receiver never saw, and hide others.",
        "Record with at least ten samples a bit.",
    ),
    "short-stop": Kind(
        "warning",
        "missing second stop bit",
        "missing second stop bits",
        "The line was not at idle level in the second stop bit: the sender leaves fewer stop bits than declared.",
        "Compare the stop bits at both ends; most receivers look at the first one alone and never notice.",
    ),
    "overrun": Kind(
        "error",
        "overrun",
        "overruns",
        "The receiver's hardware lost a character: the next one arrived before the last was fetched.",
        "Fetch sooner: a higher interrupt priority, shorter stretches with interrupts off, a FIFO, or DMA.",
    ),
    "overflow": Kind(
        "error",
        "overflow",
        "overflows",
        "The sequence counter jumps and bytes are missing, yet the line shows no fault around the place: they were "
        "lost behind the line, not on it.",
        "",
    ),
    "sent-while-paused": Kind(
        "error",
        "pause that was not kept",
        "pauses that were not kept",
        "The sender went on although the other end had asked it to pause; what it sent then may be lost.",
        "Check that flow control is switched on at the sender, that the signal or the characters reach it, and how "
        "many characters its FIFO still sends: the receiver must ask early enough.",
    ),
    "checksum-mismatch": Kind(
        "error",
        "checksum mismatch",
        "checksum mismatches",
        "The frame has its length, but its content changed on the way, or the ends compute the checksum differently.",
        "If few: look for line faults at the same places. If all: compare algorithm, covered bytes and byte order.",
    ),
    "unknown-value": Kind(
        "error",
        "frame with an unknown value",
        "frames with unknown values",
        "A field holds a value that the layout does not know, though the frame arrived whole.",
        "Compare the layout with the sender's code: a new message kind or state may be missing from the sheet.",
    ),
    "out-of-range": Kind(
        "warning",
        "frame with a value out of range",
        "frames with values out of range",
        "A value lies outside the limits within which it makes sense, though the frame arrived whole.",
        "Check the sensor, and whether scale, sign and byte order of the field are what the sender means.",
    ),
    "substitute-values": Kind(
        "warning",
        "stretch of substitute values",
        "stretches of substitute values",
        "The sender says that it did not measure these values, but put others in their place.",
        "Find out what the sender lacks: a sensor, a set-point in time, power; do not take these values for measured.",
    ),
    "late-frame": Kind(
        "warning",
        "late frame",
        "late frames",
        "A frame came later than its declared period allows.",
        "Look for frames that were lost at these places, a sender that is busy with something else, or a line that is "
        "too slow for its traffic.",
    ),
    "truncated-frame": Kind(
        "error",
        "truncated frame",
        "truncated frames",
        "The next frame begins before this one can be whole: bytes of it are missing.",
        "Look for line faults at the place; if there are none, a buffer before the line lost the bytes.",
    ),
    "length-mismatch": Kind(
        "error",
        "frame of a wrong length",
        "frames of a wrong length",
        "What lies between two frames, or two delimiters, is not as long as a frame: bytes were inserted, or a marker, "
        "a delimiter or a length was damaged.",
        "Look for doubled characters, local echo, or a second sender on the wire.",
    ),
    "undeclared-frame": Kind(
        "warning",
        "frame that no layout declares",
        "frames that no layout declares",
        "It is delimited as a frame, but has the fixed values, or the text, of none of the wire's layouts.",
        "Declare a layout for it; if there should be none such, look at what version the sender is of.",
    ),
    "bad-stuffing": Kind(
        "error",
        "packet with impossible stuffing",
        "packets with impossible stuffing",
        "Its escapes or code bytes are such as no sender makes: the packet was damaged, or given up by its sender.",
        "Look for line faults at the place, and for bytes that were lost before the receiver undid the stuffing.",
    ),
    "overlong-frame": Kind(
        "error",
        "stretch too long for a frame",
        "stretches too long for a frame",
        "More bytes came without a delimiter than the longest frame has.",
        "Look whether the sender delimits its frames as declared; if frames may be so long, say longest = ... .",
    ),
    "terminator-missing": Kind(
        "error",
        "line without its terminator",
        "lines without their terminator",
        "More bytes came without the terminator than the longest frame has: whoever waits for it waits for ever.",
        "Look at what the sender ends its lines with, and that a full transmit buffer does not cut it off.",
    ),
    "resynchronised": Kind(
        "warning",
        "stretch without a marker",
        "stretches without a marker",
        "Bytes that belong to no frame were passed over until the next marker.",
        "Look for line faults in the marker, or for messages that the sheet does not declare.",
    ),
    "cut-frame": Kind(
        "note",
        "cut-off frame",
        "cut-off frames",
        "The capture begins or ends inside a frame, which is not counted.",
        "Record a little longer if the frame matters.",
    ),
    "counter-gap": Kind(
        "error",
        "gap in the sequence",
        "gaps in the sequence",
        "The sequence counter jumps and bytes are missing where the line shows faults: they were lost on the line.",
        "Mend the line faults at the place first.",
    ),
    "counter-repeat": Kind(
        "warning",
        "repeated frame",
        "repeated frames",
        "The sequence counter stands still from one frame to the next.",
        "Check whether the sender repeats after a missing answer, or forgets to count.",
    ),
    "counter-restart": Kind(
        "warning",
        "restarted counter",
        "restarted counters",
        "The sequence counter begins again at 0 long before it is due to: the sender has restarted.",
        "Check the sender's supply, its watchdog, and whether opening the port resets it.",
    ),
    "never-ready": Kind(
        "error",
        "device that was never ready",
        "devices that were never ready",
        "The word with which the device says that it is ready did not come.",
        "Check that it is powered and that the baud is right; it may also have said so before the port was opened, "
        "which a reset pulse cures.",
    ),
    "startup-character": Kind(
        "warning",
        "character that nobody sent",
        "characters that nobody sent",
        "It stands alone at the beginning and says nothing: the line floated, or the sender's pin was set up before "
        "its UART was.",
        "Pull the line to idle level, or set up the UART before the pin; a receiver should throw away what comes "
        "before the first message.",
    ),
    "undeclared-ending": Kind(
        "warning",
        "unexpected line ending",
        "unexpected line endings",
        "A receiver that waits for one ending reads another as part of the text, or waits for ever.",
        "Let both ends mean the same ending; look for a length that counts the NUL of a string, and for software that "
        "turns one ending into another.",
    ),
    "digits-for-value": Kind(
        "warning",
        "character of digits where a value was expected",
        "characters of digits where values were expected",
        "A number came as the text of its digits, not as a raw value.",
        "Look for a call that prints a number where one that writes its bytes was meant; or declare text.",
    ),
    "value-for-digits": Kind(
        "warning",
        "raw value where digits were expected",
        "raw values where digits were expected",
        "A number came as a raw value, not as the text of its digits.",
        "Look for a call that writes a byte where one that prints a number was meant.",
    ),
    "no-text": Kind(
        "warning",
        "wire without text",
        "wires without text",
        "Lines of text were asked for, but most of what came is none.",
        "Show characters, or declare frames; if text was meant, compare baud, data bits and parity at both ends.",
    ),
    "doubled-characters": Kind(
        "warning",
        "character that came twice",
        "characters that came twice",
        "Everything comes twice, as when a local echo and one at the far end are both on.",
        "Switch one echo off. On a line that both ends share, the receiver hears its own sending: drop that.",
    ),
    "echo": Kind(
        "note",
        "answer behind an echo",
        "answers behind an echo",
        "What was sent came back in front of the answer.",
        "Expected of a device with an echo, or where both directions share a wire; else look for TX joined to RX.",
    ),
    "escape-sequence": Kind(
        "note",
        "escape sequence",
        "escape sequences",
        "The text holds control functions of ECMA-48, as for colours or the cursor of a terminal; they are no noise.",
        "Strip them where text alone is wanted.",
    ),
    "baud-mismatch": Kind(
        "error",
        "baud that is not as declared",
        "bauds that are not as declared",
        "The two ends do not keep the same time, so that bits are read in the wrong place.",
        "Set the same baud at both ends; check divisor, oversampling and the clock that the divisor is computed from.",
    ),
    "clock-mismatch": Kind(
        "warning",
        "clock that is not the one believed in",
        "clocks that are not the ones believed in",
        "The baud is off by the ratio of two usual clocks: the firmware may compute its divisor from another clock "
        "than the one on the board.",
        "Compare the clock that the code believes in with the crystal on the board, its multiplier and its dividers.",
    ),
    "polarity-mismatch": Kind(
        "error",
        "inverted wire",
        "inverted wires",
        "The wire rests at the other level than declared.",
        "Look for an inverting level converter that is there or missing, an inverted pin, or a tap on the wrong side "
        "of the line driver; or declare the idle level as it is.",
    ),
    "level-mismatch": Kind(
        "error",
        "wire with wrong levels",
        "wires with wrong levels",
        "The voltages of the wire are not those that the input of an ordinary controller reads.",
        "Measure the supply of both ends and the ground between them; look for a divider or series resistor, a "
        "missing level shifter, and a second output on the wire.",
    ),
    "parity-mismatch": Kind(
        "error",
        "parity that is not as declared",
        "parities that are not as declared",
        "The two ends do not mean the same parity.",
        "Set the same parity at both ends.",
    ),
    "data-bits-mismatch": Kind(
        "error",
        "word length that is not as declared",
        "word lengths that are not as declared",
        "The two ends do not mean the same number of data bits.",
        "Set the same number of data bits at both ends. Some parts count the parity bit inside the word length: there "
        "8 data bits with parity are a word of 9.",
    ),
    "stop-bits-mismatch": Kind(
        "warning",
        "number of stop bits that is not as declared",
        "numbers of stop bits that are not as declared",
        "The next character begins earlier than the declared stop bits allow.",
        "Set the sender to as many stop bits as the receiver needs, or declare one.",
    ),
    "bit-order-mismatch": Kind(
        "error",
        "bit order that is not as declared",
        "bit orders that are not as declared",
        "The characters make sense only if their bits are taken in the opposite order.",
        "Nearly every UART sends the lowest bit first; look for a switch of the bit order at one end.",
    ),
    "two-senders": Kind(
        "error",
        "wire with two senders",
        "wires with two senders",
        "Changes of level lie anywhere between the bits of a character, and not as short glitches: two outputs drive "
        "the wire at once.",
        "Look for two outputs joined, a device that answers while the other one still sends, or a shared wire without "
        "an enable line.",
    ),
    "noisy-line": Kind(
        "error",
        "noisy wire",
        "noisy wires",
        "The settings are right, yet characters arrive damaged, here and there.",
        "Look for a missing ground, long or loose wires, slow edges, and what switches large currents nearby.",
    ),
    "best-settings": Kind(
        "note",
        "proposal of settings",
        "proposals of settings",
        "Under these settings the wire reads best.",
        "Set the other end to this.",
    ),
    "cannot-tell": Kind(
        "note",
        "wire of which nothing sure can be told",
        "wires of which nothing sure can be told",
        "There is too little to go by, or it fits several explanations.",
        "Record more, with different values if possible.",
    ),
    "as-declared": Kind(
        "note",
        "wire that is as declared",
        "wires that are as declared",
        "The wire is as the sheet declares it.",
        "Nothing; single faults are told by decode.",
    ),
    "silence": Kind(
        "warning",
        "silent wire",
        "silent wires",
        "The wire never left its level in the whole capture.",
        "Check that the sender is powered and enabled, that TX goes to RX, and that the right signal was recorded.",
    ),
}

KINDS: Mapping[str, Kind] = {**SEEN, **SETUP, **PATHS, **TURNS}
