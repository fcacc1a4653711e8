"""The kinds of findings about the settings of a wire: which they are, and how they differ from the sheet's."""

from __future__ import annotations

from collections.abc import Mapping

from .kind import Kind

READ = "{good:,} of {characters:count character} {characters:has} no fault."
AS = "Read as {best}, {good:,} of {characters:count character} {characters:has} no fault."
CLOCK = "Measured {measured} baud ±{uncertainty_ppm:,.0f} ppm."
ORDER_ASSUMED = "The values do not show which bit was sent first; {assumed_first} bit first is assumed."
BETWEEN_BITS = (
    "{off:percent} of the changes lie between the bits, {glitches:percent} of those as short glitches.",
    READ,
    "{?no_bit_time}The wire changed {changes:count time}. The distances between the changes are multiples of no bit "
    "time.",
)

SETTINGS: Mapping[str, Kind] = {
    "baud-mismatch": Kind(
        "error",
        "baud that is not as declared",
        "bauds that are not as declared",
        (
            "The two ends run at different bauds, so bits are read in the wrong place.",
            "{?unnoticed}The last bits of characters may be wrong without a fault.",
        ),
        "Set the same baud at both ends; check divisor, oversampling and the clock that the divisor is calculated "
        "from.",
        detail=(
            "Declared {declared:baud} baud, measured {measured} baud",
            " ±{uncertainty_ppm:,.0f} ppm",
            "({deviation:change}).",
            "The wire is {factor} times as fast.",
            "The wire is {part} times slower.",
            "{?twice}A divisor for 16 times oversampling where 8 is set, or the reverse, does so.",
        ),
        also=("unnoticed", "twice"),
    ),
    "clock-mismatch": Kind(
        "warning",
        "wrong clock assumed",
        "wrong clocks assumed",
        "{!end}The baud is off by the ratio of two usual clocks: the firmware may calculate its divisor from another "
        "clock than the board has.",
        "Compare the clock that the code assumes with the crystal on the board, its multiplier and its dividers.",
        detail=(
            "The ratio is {ratio:.4f}: {pairs}.",
            "The code of {end} assumes a clock of {assumed}, but the clock is {clock}: bauds are {times:.4g} times "
            "what they should be.",
        ),
    ),
    "polarity-mismatch": Kind(
        "error",
        "inverted wire",
        "inverted wires",
        "{!output}The wire rests at the other level than declared.",
        (
            "{!driver}Look for an inverting level converter that is there or missing, an inverted pin, or a tap on the "
            "wrong side of the line driver; or declare the idle level as it is.",
            "{?driver}The levels of {driver} are those of a line driver, whose idle level is the lower: if a "
            "converter stands between, declare inverts = true on the joint beside translates = true.",
        ),
        detail=(
            "Declared idle {declared}, measured idle {found}.",
            AS,
            "{output} rests {rests} and {input} expects {expects}, and what lies between them {joint}.",
        ),
    ),
    "level-mismatch": Kind(
        "error",
        "wire with wrong levels",
        "wires with wrong levels",
        "The voltages of the wire are not those that the input of an ordinary controller reads.",
        (
            "{!line_driver}Measure the supply of both ends and the ground between them; look for a divider or series "
            "resistor, a missing level shifter, and a second output on the wire.",
            "{?line_driver}Put a line receiver between, or record behind it. A controller's pin does not tolerate such "
            "levels.",
        ),
        detail=(
            "It stays at {level_v:.2f} V, which inputs of 3.3 V or 5 V read neither as low nor as high.",
            "Low is {low_v:.2f} V, high {high_v:.2f} V.",
            "{?line_driver}Those are levels of a line driver, on which idle is the low level.",
            "{family} reads up to {reads_low_v:g} V as low and from {reads_high_v:g} V as high",
            ", and tolerates {tolerates_v:.2g} V at most",
            "{?family}.",
            "{?raised}A raised low level points to a missing ground, a weak driver, or two outputs on one wire.",
            "{?below}A level below 0 points to another ground, or from a probe that is not at ground.",
        ),
        also=("line_driver", "raised", "below"),
    ),
    "parity-mismatch": Kind(
        "error",
        "parity that is not as declared",
        "parities that are not as declared",
        "The two ends use different parities.",
        "Set the same parity at both ends.",
        detail=("Declared {declared} parity, sent {found} parity.", AS),
    ),
    "data-bits-mismatch": Kind(
        "error",
        "word length that is not as declared",
        "word lengths that are not as declared",
        "The two ends use different numbers of data bits.",
        "Set the same number of data bits at both ends. Some parts count the parity bit inside the word length: there "
        "8 data bits with parity are a word of 9.",
        detail=(
            "Declared {declared} data bits, sent {found}.",
            AS,
            "{?sender_counts}The sender's word of {word} bits counts the parity bit.",
            "{?sheet_counts}The declared word of {word} bits counts the parity bit, the sender's does not.",
        ),
        also=("sender_counts", "sheet_counts"),
    ),
    "stop-bits-mismatch": Kind(
        "warning",
        "number of stop bits that is not as declared",
        "numbers of stop bits that are not as declared",
        "The next character begins earlier than the declared stop bits allow.",
        "Set the sender to as many stop bits as the receiver needs, or declare 1.",
        detail="{declared:g} stop bits are declared; some characters begin {early:.2g} bit before their end.",
    ),
    "bit-order-mismatch": Kind(
        "error",
        "bit order that is not as declared",
        "bit orders that are not as declared",
        "The characters make sense only if their bits are taken in the opposite order.",
        "Nearly every UART sends the lowest bit first; look for a switch of the bit order at one end.",
        detail=("Declared the {declared} bit first, sent the {found} bit first.", AS),
    ),
    "setting-suspect": Kind(
        "error",
        "wire that reads better under other settings",
        "wires that read better under other settings",
        "The declared settings are probably wrong: under other settings more characters are right.",
        "Confirm with larkreader diagnose, then set both ends alike or declare line = {settings_toml}.",
        detail=(
            "As declared, {declared}, {declared_good:,} of {declared_characters:count character} "
            "{declared_characters:has} no fault; as {settings}, {good:,} of {characters:,}.",
            "{?parity_bit}In all {characters:count character} ({different} different) the highest bit is the {parity} "
            "parity of the others: {settings} explains that, {declared} does not.",
        ),
        also=("parity_bit",),
    ),
    "two-senders": Kind(
        "error",
        "wire with two senders",
        "wires with two senders",
        "The level changes anywhere between the bits of a character, and not as short glitches: two outputs drive the "
        "wire at once.",
        "Look for two outputs joined, a device that answers while another still sends, or a shared wire without "
        "an enable line.",
        detail=BETWEEN_BITS,
        also=("no_bit_time", "changes"),
    ),
    "noisy-line": Kind(
        "error",
        "noisy wire",
        "noisy wires",
        "The settings are right, yet some characters arrive damaged.",
        "Look for a missing ground, long or loose wires, slow edges, and nearby switching of large currents.",
        detail=BETWEEN_BITS,
        also=("no_bit_time", "changes"),
    ),
    "best-settings": Kind(
        "note",
        "proposal of settings",
        "proposals of settings",
        "Under these settings the wire reads best.",
        "Set the other end to this.",
        detail=(
            "{settings}:",
            CLOCK,
            READ,
            "The next best, {runner_up}, is {odds} less likely.",
            "The capture fits {alike:list} as well: its characters do not differ under them.",
            ORDER_ASSUMED,
        ),
    ),
    "undecided": Kind(
        "note",
        "wire that does not show its settings",
        "wires that do not show their settings",
        "The capture has too little to decide, or fits several explanations.",
        ("{!rate}Record more, with different values if possible.", "Record with {rate:,.0f} samples a second or more."),
        detail=(
            "A bit of {baud:baud} baud lasts {ticks:.3g} ticks of the capture, too few to find its middle.",
            "{settings}:",
            CLOCK,
            READ,
            "The next best, {runner_up}, is {odds} less likely.",
            "The capture fits {alike:list} as well: its characters do not differ under them.",
            ORDER_ASSUMED,
            "The wire changed {changes:count time}",
            "; {read:count character} could be read",
            "{?changes}.",
            "{?no_bit_time}The distances between the changes are multiples of no bit time.",
        ),
        also=("no_bit_time",),
    ),
    "as-declared": Kind(
        "note",
        "wire that is as declared",
        "wires that are as declared",
        "The wire is as the sheet declares it.",
        "Nothing; decode reports single faults.",
        detail=(
            "{?alike}Read as declared, hardly a character has a fault; the changes of level alone do not show the "
            "baud.",
            CLOCK,
            READ,
            "{?faulty}The settings are not the reason for the others.",
        ),
        also=("alike", "faulty"),
    ),
}
