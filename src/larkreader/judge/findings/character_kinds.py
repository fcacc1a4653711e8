"""The kinds of findings about the characters of a wire: line faults, losses, and what the capture itself lacks."""

from __future__ import annotations

from collections.abc import Mapping

from larkreader.capture.characters import Fault

from .kind import Kind

FAULT_OF: Mapping[str, Fault] = {
    "parity-error": Fault.PARITY,
    "framing-error": Fault.FRAMING,
    "break": Fault.BREAK,
    "noise": Fault.NOISE,
    "unknown-level": Fault.UNKNOWN_LEVEL,
    "overrun": Fault.OVERRUN,
    "short-stop": Fault.SHORT_STOP,
}
"""The fault of a character that each kind reports."""
SAME_SETTINGS = (
    "{?many}So many faults have a common cause: the two ends, or the sheet and the wire, differ in a setting. "
    "larkreader diagnose shows which; look for noise only after that."
)

BY_BLOCK = (
    "{?counted}The port reports faults per block: at least one character of each block is faulty. A place is where a "
    "block begins."
)

CHARACTERS: Mapping[str, Kind] = {
    "parity-error": Kind(
        "error",
        "parity error",
        "parity errors",
        "A bit of the character changed on the way, or the two ends use different parities.",
        (
            SAME_SETTINGS,
            "{!many}If few: look for noise, a missing ground or a weak driver. If most: compare the parity at both "
            "ends.",
        ),
        detail=("The first is {value:hex}; {parity} parity is declared.", BY_BLOCK),
        also=("counted",),
    ),
    "framing-error": Kind(
        "error",
        "framing error",
        "framing errors",
        "The line was not at idle level where the stop bit should be.",
        (
            SAME_SETTINGS,
            "{!many}Compare baud and character format at both ends; then look for a receiver that began inside a "
            "character.",
        ),
        detail=BY_BLOCK,
        also=("counted",),
    ),
    "break": Kind(
        "warning",
        "break",
        "breaks",
        "The line stayed at start level for a whole character: a break, or a loose wire.",
        (
            SAME_SETTINGS,
            "{!many}If no device sends breaks, check the wire, the sender's supply, and whether its pin is an output.",
        ),
        detail=("The longest lasts {longest_s:time}, {longest_characters:.3g} x a character's time.", BY_BLOCK),
        also=("counted",),
    ),
    "noise": Kind(
        "warning",
        "noisy character",
        "noisy characters",
        "The three samples of a bit did not agree.",
        "Look for noise, slow edges or a baud at the limit of the receiver's tolerance.",
    ),
    "unknown-level": Kind(
        "warning",
        "character of unknown level",
        "characters of unknown level",
        "The capture has no level of the wire (undefined or undriven) for a part of the character.",
        "Check that an output drives the wire at all times, or that a pull-up holds it at idle level.",
    ),
    "false-start": Kind(
        "warning",
        "false start",
        "false starts",
        "The line left idle level and was back half a bit later; nothing was received.",
        "Look for spikes: crosstalk, a missing ground, a pin that changes its function while the line is idle.",
    ),
    "cut-character": Kind(
        "note",
        "cut-off character",
        "cut-off characters",
        "The capture begins or ends inside a character, which is not counted.",
        "Start recording while the line is idle, and stop a little after the last character.",
        detail="Of the {run:count character} until the wire first rests, at {until_s:.6g} s, the first {doubtful} may "
        "be read out of step.",
    ),
    "cut-capture": Kind(
        "warning",
        "cut-off capture",
        "cut-off captures",
        "The file breaks off; everything before that was read.",
        "Record again, or copy the file again; what the recording program still held when it ended is lost.",
        detail="{reason}.",
    ),
    "coarse-capture": Kind(
        "warning",
        "coarse capture",
        "coarse captures",
        "So few samples a bit can show errors that the receiver never saw, and hide others.",
        "Record with at least ten samples a bit.",
        detail="A bit lasts {ticks:.3g} ticks of the capture, so each level is judged up to {off:.0%} of a bit too "
        "early or too late.",
    ),
    "short-stop": Kind(
        "warning",
        "missing second stop bit",
        "missing second stop bits",
        "The line was not at idle level in the second stop bit: the sender leaves fewer stop bits than declared.",
        "Compare the stop bits at both ends; most receivers check only the first.",
    ),
    "overrun": Kind(
        "error",
        "overrun",
        "overruns",
        "The receiver's hardware lost a character: the next character arrived before it was fetched.",
        "Fetch sooner: a higher interrupt priority, shorter stretches with interrupts off, a FIFO, or DMA.",
        detail=(
            "{?counted}The driver of the receiving port counted them by the time it delivered this character.",
            "{?counting}The characters count up, and {missing:count character} {missing:is} missing, {first_missing} "
            "at the first place (or a multiple of {cycle} more).",
            "{!counting}By the sequence counter {missing:count byte} {missing:is} missing there.",
        ),
        also=("counted", "counting"),
    ),
    "overflow": Kind(
        "error",
        "overflow",
        "overflows",
        (
            "{?recorded}{?counting}The line shows no fault there: they never reached the wire, or were never sent.",
            "{?recorded}{!counting}The line shows no fault there and no gap as long as the missing bytes: they never "
            "reached the wire.",
            "{?bytes_alone}The capture holds bytes alone and shows no line fault there: most likely a software buffer "
            "lost them, but a loss on the line is possible.",
            "{?marked}The line shows no fault there: most likely a software buffer behind it lost them.",
        ),
        (
            "{?recorded}Look at the sender's transmit buffer, and at code that writes into it without waiting for "
            "room; a sender that counts without sending looks the same.",
            "{?bytes_alone}Make the receiver's software buffer larger, empty it more often, or let flow control pause "
            "the sender. Record the wire as well to exclude the sender.",
            "{?marked}Make the receiver's software buffer larger, empty it more often, or let flow control pause the "
            "sender.",
            "{?counted}Read from the port more often, or more at a time, or let flow control pause the sender.",
            "{?counting}Look at the receiver's buffers: with [receive] on the sheet, plan and decode calculate how "
            "large they must be and how soon they must be emptied.",
        ),
        detail=(
            "{?counted}The driver of the receiving port counted them by the time it delivered this character.",
            "{?counting}The characters count up, and {missing:count character} {missing:is} missing, {first_missing} "
            "at the first place (or a multiple of {cycle} more).",
            "{?frames}{missing:count byte} {missing:is} missing, of {frames:count frame}.",
            "At least {at_least:count byte} {at_least:is} missing, of {frames:count frame}.",
            "{?joined}The rest was read as {joined:count frame with a wrong checksum}.",
        ),
        also=("counted", "counting", "bytes_alone", "recorded", "marked", "joined", "at_most"),
    ),
    "counter-gap": Kind(
        "error",
        "gap in the sequence",
        "gaps in the sequence",
        "Bytes are missing where the line shows a fault or a gap: they were lost on the line.",
        "Remove the line faults there first.",
        detail=(
            "{?counting}The characters count up, and {missing:count character} {missing:is} missing, {first_missing} "
            "at the first place (or a multiple of {cycle} more).",
            "{?frames}{missing:count byte} {missing:is} missing, of {frames:count frame}.",
            "At least {at_least:count byte} {at_least:is} missing, of {frames:count frame}.",
        ),
        also=("counting", "frames", "joined", "at_most"),
    ),
    "sent-while-paused": Kind(
        "error",
        "pause that was not kept",
        "pauses that were not kept",
        "The sender continued although the other end had requested a pause; the characters sent then may be lost.",
        "Check that flow control is on at the sender, that the signal or the characters reach it, and how many "
        "characters its FIFO still sends: the receiver must request the pause early enough.",
        detail="{late:count character} began after the allowance of {allowed_s:time}, at most {most_late} in any of "
        "{pauses:count pause}; the last began {latest_s:time} after the request. Up to {after:count character} "
        "followed a request, with those that hardware may still send.",
    ),
    "silence": Kind(
        "warning",
        "silent wire",
        "silent wires",
        "The wire kept the same level in the whole capture.",
        "Check that the sender is powered and enabled, that TX goes to RX, and that the right signal was recorded.",
        detail="The level was {level} all the time.",
    ),
    "counter-repeat": Kind(
        "warning",
        "repeated frame",
        "repeated frames",
        "{!counting}The sequence counter has the same value in two frames in a row.",
        (
            "{!counting}Check whether the sender repeats after a missing reply, or forgets to count.",
            "{?counting}Look for an echo, a sender that repeats, or a buffer that is read twice.",
        ),
        detail="{?counting}The characters count up, and these occur twice.",
        among="{frame} frames",
        also=("counting",),
    ),
    "counter-restart": Kind(
        "warning",
        "restarted counter",
        "restarted counters",
        "The sequence counter starts again at 0 long before it is due: most likely the sender has restarted.",
        "Check the sender's supply, its watchdog, and whether opening the port resets it.",
        among="{frame} frames",
    ),
    "counter-mismatch": Kind(
        "error",
        "counter that fits neither neighbour",
        "counters that fit neither neighbour",
        "The frames before and after fit each other, so no frame is missing: the counter, or its frame, was changed.",
        "Add a checksum to the frame if it has none; then look for line faults there.",
        detail="The first is {found}, where {expected} is expected.",
        among="{frame} frames",
    ),
    "counter-jump": Kind(
        "warning",
        "counter that jumps without proof of a loss",
        "counters that jump without proof of a loss",
        "Either frames are missing here, or the counter was corrupted: a single frame without a checksum does not "
        "decide.",
        "Add a checksum to the frame, or record longer.",
        detail="The first jumps from {before} to {found}.",
        among="{frame} frames",
    ),
}
