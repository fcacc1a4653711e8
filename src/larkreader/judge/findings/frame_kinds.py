"""The kinds of findings about frames, what lies between them, and what a wire carries instead."""

from __future__ import annotations

from collections.abc import Mapping

from .kind import Kind

FRAMES: Mapping[str, Kind] = {
    "checksum-mismatch": Kind(
        "error",
        "checksum mismatch",
        "checksum mismatches",
        (
            "{!fit}The frame has its length, but its content changed on the way, or the two ends calculate the "
            "checksum differently.",
            "{?fit}The two ends calculate the checksum differently.",
        ),
        (
            "{!fit}If few: look for line faults at the same places. If all: compare algorithm, covered bytes and byte "
            "order.",
            "{?fit}Declare checksum = {fit}, if that is what the sender calculates.",
        ),
        detail=(
            "{!fit}The first holds {found:hex}, calculated is {expected:hex} ({algorithm}).",
            "With {fit_algorithm} over bytes {fit_first} to {fit_last}",
            ", stored {fit_order} byte first",
            ", {fit_frames} of {fit_of} different frames are right: no coincidence.",
        ),
        among="{frame} frames",
        also=("fit",),
    ),
    "unknown-value": Kind(
        "error",
        "frame with an unknown value",
        "frames with unknown values",
        "The frame is whole, but a field has a value that the layout does not allow.",
        "Compare the layout with the sender's code: a new message kind or state may be missing on the sheet.",
        detail=(
            "The first has {field} = {found}, where {expected} is declared.",
            "{!expected}The first has {field} = {value}, which has no name.",
            "{!field}The first has reserved bits, a digit or a text that are not as declared.",
        ),
        among="{frame} frames",
    ),
    "out-of-range": Kind(
        "warning",
        "frame with a value out of range",
        "frames with values out of range",
        "The frame is whole, but a value lies outside its declared limits.",
        "Check the sensor, and whether the sender uses the same scale, sign and byte order.",
        detail="The first has {field} = {value}; {low:g} to {high:g} is declared.",
        among="{frame} frames",
    ),
    "substitute-values": Kind(
        "warning",
        "stretch of substitute values",
        "stretches of substitute values",
        "The sender reports that it did not measure these values, but sent substitutes.",
        "Find out what the sender lacks: a sensor, a set-point in time, power. Do not use these values as measured.",
        detail=(
            "By {field}, {frames:count frame} {frames:has} substitutes for {fields:list}",
            ", for at most {longest_s:time}",
            "{?to_end}, still at the end",
            "{?field}.",
        ),
        also=("to_end",),
    ),
    "late-frame": Kind(
        "warning",
        "late frame",
        "late frames",
        "A frame was later than its declared period allows.",
        "Look for frames that were lost at these places, a sender that is busy, or a line that is too slow for its "
        "traffic.",
        detail=(
            "A period of {period_s:time} is declared; the longest gap is {longest_s:time}.",
            "{missing:count frame} {missing:was} due and missing.",
        ),
        among="{frame} frames",
    ),
    "silent-layout": Kind(
        "warning",
        "missing periodic frame",
        "missing periodic frames",
        "A frame with a declared period did not occur in the whole capture.",
        "Check that its sender runs, and that its layout is what it sends.",
        detail="{frame} is declared every {period_s:time}; the wire was captured for {span_s:time}.",
    ),
    "truncated-frame": Kind(
        "error",
        "truncated frame",
        "truncated frames",
        "The next frame begins before this frame is complete: bytes are missing, or its length was corrupted.",
        "Look for line faults at the place; if there are none, a buffer before the line may have lost the bytes.",
        detail="{bytes:count byte} of {total_bytes:,} {bytes:lie} there.",
    ),
    "length-mismatch": Kind(
        "error",
        "frame of a wrong length",
        "frames of a wrong length",
        (
            "The stretch between two frames, or two delimiters, is not as long as a frame: bytes were "
            "inserted or lost, or a marker, a delimiter or a length was changed.",
        ),
        ("Look for doubled characters, a local echo, or a second sender on the wire.",),
        detail=("{bytes:count byte} of {total_bytes:,} {bytes:lie} there.",),
    ),
    "undeclared-frame": Kind(
        "warning",
        "frame that no layout declares",
        "frames that no layout declares",
        "It is delimited as a frame, but has the fixed values, or the text, of none of the wire's layouts.",
        "Declare a layout for it; if there should be none, check the version of the sender's firmware.",
        detail="{bytes:count byte} of {total_bytes:,} {bytes:lie} there.",
    ),
    "bad-stuffing": Kind(
        "error",
        "packet with impossible stuffing",
        "packets with impossible stuffing",
        "No sender makes such escapes or code bytes: the packet was damaged, or its sender gave it up.",
        "Look for line faults at the place, and for bytes that were lost before the receiver removed the stuffing.",
        detail="{bytes:count byte} of {total_bytes:,} {bytes:lie} there.",
    ),
    "overlong-frame": Kind(
        "error",
        "stretch too long for a frame",
        "stretches too long for a frame",
        "More bytes without a delimiter than the longest frame has.",
        "Check that the sender delimits its frames as declared; if frames may be so long, set longest = ... .",
        detail="{bytes:count byte} of {total_bytes:,} {bytes:lie} there.",
    ),
    "terminator-missing": Kind(
        "error",
        "line without its terminator",
        "lines without their terminator",
        "More bytes without the terminator than the longest frame has: a receiver waits for it forever.",
        "Check how the sender ends its lines, and that a full transmit buffer does not cut the end off.",
        detail="{bytes:count byte} of {total_bytes:,} {bytes:lie} there.",
    ),
    "resynchronised": Kind(
        "warning",
        "stretch without a marker",
        "stretches without a marker",
        "Bytes that belong to no frame were skipped until the next marker.",
        "Look for line faults in the marker, or for messages that the sheet does not declare.",
        detail="{bytes:count byte} of {total_bytes:,} {bytes:lie} there.",
    ),
    "cut-frame": Kind(
        "note",
        "cut-off frame",
        "cut-off frames",
        "The capture begins or ends inside a frame, which is not counted.",
        "Record a little longer if the frame matters.",
        detail="{bytes:count byte} of {total_bytes:,} {bytes:lie} there.",
    ),
    "layout-suspect": Kind(
        "error",
        "layout that does not fit",
        "layouts that do not fit",
        "The declared layout is probably wrong.",
        "Declare {change}, if that is what the sender does.",
        detail="As declared, {declared_good:,} frames are good; with {change}, {good:,} of {of:,} are.",
    ),
    "no-good-frame": Kind(
        "error",
        "wire without a good frame",
        "wires without a good frame",
        "None of the declared layouts was found, so nothing on this wire is proven.",
        "Compare the layouts with the sender's code, and the line settings with larkreader diagnose; larkreader new "
        "FILE --from CAPTURE proposes a layout.",
        detail="None of {characters:count character} lies in a good frame of {layouts:list}.",
    ),
    "never-ready": Kind(
        "error",
        "device that was never ready",
        "devices that were never ready",
        "The device did not send the word that reports it ready.",
        "Check that it is powered and that the baud is right; if it reported ready before the port was opened, use a "
        "reset pulse.",
        detail='Waited {waited_s:g} s for "{word}"; received {characters} other characters.',
    ),
    "startup-character": Kind(
        "warning",
        "event before the first idle time",
        "events before the first idle time",
        "That is not a message: the line floated, or the sender's pin was set up before its UART.",
        "Pull the line to idle level, or set up the UART before the pin; a receiver should discard everything before "
        "the first message.",
        detail=(
            "The line was at start level for {low_s:time} from the beginning of the capture.",
            "Read as {values:list}.",
            "{pulses:count pulse} of less than half a bit.",
        ),
    ),
    "undeclared-ending": Kind(
        "warning",
        "unexpected line ending",
        "unexpected line endings",
        "A receiver that expects another ending reads this as part of the text, or waits forever.",
        "Use the same ending at both ends; look for a length that counts the NUL of a string, and for software that "
        "converts endings.",
        detail=("Found: {endings:list}", "; {expected} is declared", "; the other lines end with {usual}", "."),
        among="endings",
    ),
    "digits-for-value": Kind(
        "warning",
        "character of digits where a value was expected",
        "characters of digits where values were expected",
        "A number was sent as the text of its digits, not as a raw value.",
        "Look for a call that prints a number instead of writing its bytes; or declare text.",
        detail=(
            'They begin with "{begins}".',
            "It shows in {count:,} of {answers:count answer}. Sent {sent}, received {received}.",
        ),
    ),
    "value-for-digits": Kind(
        "warning",
        "raw value where digits were expected",
        "raw values where digits were expected",
        "A number was sent as a raw value, not as the text of its digits.",
        "Look for a call that writes a byte instead of printing a number.",
        detail="It shows in {count:,} of {answers:count answer}. Sent {sent}, received {received}.",
    ),
    "no-text": Kind(
        "warning",
        "wire without text",
        "wires without text",
        "Lines of text were asked for, but most bytes are not text.",
        "Show characters, or declare frames; if text was expected, compare baud, data bits and parity at both ends.",
        detail="It begins with {begins}.",
    ),
    "doubled-characters": Kind(
        "warning",
        "doubled character",
        "doubled characters",
        "Every character is received twice, as when a local echo and an echo at the far end are both on.",
        "Switch off either echo. On a line that both ends share, a receiver hears its own transmitter: discard that.",
        detail="It shows in {count:,} of {answers:count answer}. Sent {sent}, received {received}.",
    ),
    "echo": Kind(
        "note",
        "answer behind an echo",
        "answers behind an echo",
        "The sent bytes precede the answer.",
        "Expected of a device with an echo, or where both directions share a wire; otherwise look for TX joined to RX.",
        detail="It shows in {count:,} of {answers:count answer}. Sent {sent}, received {received}.",
    ),
    "escape-sequence": Kind(
        "note",
        "escape sequence",
        "escape sequences",
        "The text holds control functions of ECMA-48, as for colours or the cursor of a terminal; they are not noise.",
        "Strip them where text alone is wanted.",
        detail="Most often: {often:list}.",
    ),
}
