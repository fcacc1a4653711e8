"""What is emitted in C, compiled with a small program around it that unpacks, packs and parses what it is given."""

import subprocess

from reference import slow_number

import larkreader as lr

WARNINGS = ["-std=c99", "-Wall", "-Wextra", "-Wconversion", "-Wsign-conversion", "-Wshadow", "-pedantic", "-Werror"]
SANITIZED = ["-O0", "-fsanitize=address,undefined", "-fno-sanitize-recover=all"]
HEAD = """
#include <stdio.h>
#include <stdlib.h>
#include "link.h"

static uint8_t bytes[200000];
static uint8_t again[200000];

static size_t read_hex(void)
{
    static char word[400002];
    size_t n = 0;
    if (scanf("%400000s", word) != 1) { exit(3); }
    if (word[0] == '-') { return 0; }
    for (; word[2 * n] != 0; n++) {
        char two[3] = { word[2 * n], word[2 * n + 1], 0 };
        bytes[n] = (uint8_t)strtoul(two, NULL, 16);
    }
    return n;
}

static void hex(const uint8_t *from, size_t n)
{
    size_t i;
    for (i = 0; i < n; i++) { printf("%02x", from[i]); }
    printf(n == 0 ? "-" : "");
}

static void whole(unsigned long long value) { printf(" %llu", value); }
static void negative(long long value) { printf(" %lld", value); }
static void f32(float value) { uint32_t bits; memcpy(&bits, &value, 4); printf(" %lu", (unsigned long)bits); }
static void f64(double value) { uint64_t bits; memcpy(&bits, &value, 8); printf(" %llu", (unsigned long long)bits); }
"""
PARSER = """
static uint8_t faults_of(const link_event *event)
{
    switch (event->which) {
%s
    default: return 0xFF;
    }
}
"""
WIRE = """
    case %(number)d: {
        static link_%(wire)s_parser p;
        link_event event;
        char word[8];
        link_%(wire)s_start(&p);
        while (scanf("%%7s", word) == 1 && word[0] != '.') {
            const unsigned long c = strtoul(word, NULL, 16);
            %(rested)s
            if (word[0] != 'r' && !link_%(wire)s_feed(&p, (uint8_t)(c & 0xFFu), (uint8_t)(c >> 8))) { printf("LOST "); }
            if (word[0] == 'f') { link_%(wire)s_finish(&p); }
            while (link_%(wire)s_next(&p, &event)) { give(&event); }
        }
        link_%(wire)s_finish(&p);
        while (link_%(wire)s_next(&p, &event)) { give(&event); }
        printf("%%lu %%lu %%lu %%lu\\n", (unsigned long)p.frames, (unsigned long)p.damaged, (unsigned long)p.skipped, (unsigned long)p.lost);
        break;
    }
"""


def item_code(field, held):
    """Return the C that prints one item of a field."""
    if field.kind == "float":
        return f"{ {16: 'whole', 32: 'f32', 64: 'f64'}[field.bits] }({held});"
    return f"{'negative' if field.kind == 'int' else 'whole'}({held});"


def printing(layout):
    """Return the C that prints all members of a struct, in the order of the layout's fields."""
    lines = []
    for entry in layout.fields:
        if (
            hasattr(entry, "reserved")
            or getattr(entry, "type", "") == "checksum"
            or getattr(entry, "equals", None) is not None
        ):
            continue
        name = getattr(entry, "name", None) or entry.group
        repeat = entry.repeat
        count = {"rest": f"s.{name}_count"}.get(
            repeat, f"(size_t)(s.{repeat})" if isinstance(repeat, str) else str(repeat)
        )
        when = " || ".join(
            f"s.{of} == {value}"
            for of, values in entry.when.items()
            for value in (values if isinstance(values, tuple) else [values])
        )
        lines.append(f"if ({when or '1'}) {{ size_t i; for (i = 0; i < {count}; i++) {{")
        many = isinstance(repeat, str) or repeat > 1
        if hasattr(entry, "group"):
            for member in entry.fields:
                if not hasattr(member, "name") or member.equals is not None:
                    continue
                inner = f"s.{name}[i].{member.name}"
                if member.repeat > 1:
                    lines.append(
                        f"{{ size_t j; for (j = 0; j < {member.repeat}; j++) {{ {item_code(member, inner + '[j]')} }} }}"
                    )
                else:
                    lines.append(item_code(member, inner))
        else:
            index = "[i]" if many and layout_most(layout, entry) else ""
            lines.append(item_code(entry, f"s.{name}{index}"))
        lines.append("} }")
    return "\n".join(lines)


def layout_most(layout, entry):
    """Return whether the member of a field is an array: where a frame can hold several."""
    from larkreader.answers.firmware.c_members import layout_in_c

    return next(one.most for one in layout_in_c(layout, "x").entries if one.declared == entry) > 1


def expected_members(layout, frame):
    """Return the raw numbers that a frame holds, in the same order."""
    shape, numbers = layout.shape_of(frame), []
    slots = iter(shape.slots)
    for entry in layout.fields:
        members = entry.fields if hasattr(entry, "group") else [entry]
        own = [next(slots) for _ in members]
        turns = own[0].groups if hasattr(entry, "group") else 1
        each = [(slot, slot.inner if hasattr(entry, "group") else slot.count) for slot in own]
        for turn in range(turns):
            for slot, many in each:
                if slot.field is None or slot.kind == "checksum" or slot.field.equals is not None:
                    continue
                numbers += [slow_item(frame, slot, turn * many + item, layout.packing) for item in range(many)]
    return numbers


def slow_item(frame, slot, item, packing):
    """Return one item as `slow_number` has it, wherever it lies in a group."""
    from dataclasses import replace

    return slow_number(frame, replace(slot, first_bit=slot.bit_of(item), stride=0), 0, packing)


class Emitted:
    """The C of some wires, compiled.

    Parameters
    ----------
    wires : list of list of FrameLayout
        The layouts of each wire.
    folder : Path
        Where it is built.
    compiler : str
        With what.
    """

    def __init__(self, wires, folder, compiler="gcc", options=SANITIZED, **ways):
        from larkreader.answers.firmware.c_source import emit_c

        self.wires, self.frame = [], {}
        for number, layouts in enumerate(wires):
            named = []
            for place, layout in enumerate(layouts):
                key = f"l{number}x{place}"
                named.append(layout.model_copy(update={"key": key, "wire": f"w{number}"}))
                self.frame[key] = named[-1]
            self.wires.append(named)
        marks = {"line": {"format": "9N1", "ninth_bit": "address-mark"}}
        kinds = [layouts[0].boundary.kind for layouts in wires]
        declared = {f"w{number}": marks if kind == "address-mark" else {} for number, kind in enumerate(kinds)}
        sheet = lr.Sheet(wire=declared, frame=self.frame)
        self.files = emit_c(sheet, name="link", **ways)
        for name, text in self.files.items():
            (folder / name).write_text(text)
        (folder / "main.c").write_text(self._main())
        self.program = folder / "main"
        built = subprocess.run(
            [compiler, *WARNINGS, *options, "-c", "link.c", "-o", "link.o"], cwd=folder, capture_output=True, text=True
        )
        assert built.returncode == 0, built.stderr[:4000]
        linking = [option for option in options if option.startswith("-fsanitize")]
        for step in (["-c", "main.c", "-o", "main.o"], [*linking, "main.o", "link.o", "-o", "main"]):
            built = subprocess.run([compiler, *step], cwd=folder, capture_output=True, text=True)
            assert built.returncode == 0, built.stderr[:4000]
        self._given, self._checks = [], []

    def _main(self):
        unpack, cases = [], []
        for number, (key, layout) in enumerate(self.frame.items()):
            unpack.append(
                f"""
    case {number}: {{
        static link_{key} s;
        const uint8_t faults = link_{key}_unpack(bytes, n, &s);
        size_t m = link_{key}_pack(&s, again, sizeof again);
        printf("%u ", faults); hex(again, m);
        {{ {printing(layout)} }}
        printf("\\n");
        break;
    }}"""
            )
            cases.append(
                f"    case LINK_IS_{key.upper()}: {{ static link_{key} s; "
                f"return link_{key}_unpack(event->frame, event->length, &s); }}"
            )
        wires = [
            WIRE
            % {
                "number": number,
                "wire": f"w{number}",
                "rested": f"if (word[0] == 'r') {{ link_w{number}_rested(&p); }}"
                if layouts[0].boundary.kind == "idle"
                else "",
            }
            for number, layouts in enumerate(self.wires)
        ]
        give = """
static void give(const link_event *event)
{
    if (event->kind == LINK_SKIPPED) {
        printf("S:%lu:%lu:%u ", (unsigned long)event->offset, (unsigned long)event->taken, event->reason);
        return;
    }
    printf("F:%lu:%lu:%u:%u:", (unsigned long)event->offset, (unsigned long)event->taken, event->which,
           (unsigned)(event->faults | faults_of(event)));
    hex(event->frame, event->length);
    if ((event->faults == 0) != (event->kind == LINK_FRAME)) { printf(":WRONG"); }
    printf(" ");
}
"""
        return (
            HEAD
            + PARSER % "\n".join(cases)
            + give
            + "int main(void)\n{\n    char what[8]; unsigned which;\n"
            + '    while (scanf("%7s %u", what, &which) == 2) {\n'
            + "    if (what[0] == 'U') { size_t n = read_hex(); switch (which) {"
            + "".join(unpack)
            + "\n    default: exit(4); } } else switch (which) {"
            + "".join(wires)
            + "\n    default: exit(5); }\n    }\n    return 0;\n}\n"
        )

    def ask_unpack(self, key, frame, check):
        """Unpack a frame later; `check` is then called with its faults, what is packed again, and the members."""
        self._given.append(f"U {list(self.frame).index(key)} {frame.hex() or '-'}")

        def of(line):
            faults, packed, *members = line.split()
            check(int(faults), bytes.fromhex(packed.replace("-", "")), [int(one) for one in members])

        self._checks.append(of)

    def ask_parse(self, number, tokens, check):
        """Parse characters later; `check` is then called with what came out, and the counters."""
        self._given.append(f"P {number} {' '.join(tokens)} .")

        def of(line):
            *events, frames, damaged, skipped, lost = line.split()
            check(events, [int(one) for one in (frames, damaged, skipped, lost)])

        self._checks.append(of)

    def run(self):
        """Do what was asked for."""
        ran = subprocess.run([self.program], input="\n".join(self._given) + "\n", capture_output=True, text=True)
        assert ran.returncode == 0, ran.stderr[:4000]
        lines = ran.stdout.splitlines()
        assert len(lines) == len(self._checks), (len(lines), ran.stdout[-400:])
        for check, line in zip(self._checks, lines, strict=True):
            check(line)


def events_of(data, layouts):
    """Return what the reader makes of the same, written in the same way; and how many bytes are skipped."""
    read = lr.read_layouts(data, layouts)
    rows, bytes_skipped = [], 0
    for number, layout in enumerate(layouts):
        frames = read[layout.key]
        for offset, length, faults, content in zip(
            frames.offset, frames.length, frames.faults, frames.data, strict=True
        ):
            rows.append((int(offset), f"F:{offset}:{length}:%d:{faults}:{bytes(content).hex() or '-'}" % number))
    skipped = read[layouts[0].key].skipped
    for offset, length, reason in zip(skipped.offset, skipped.length, skipped.reason, strict=True):
        rows.append((int(offset), f"S:{offset}:{length}:{reason}"))
        bytes_skipped += int(length)
    return [text for _, text in sorted(rows)], bytes_skipped


def tokens_of(data, layouts):
    """Return the characters of a stream as the program takes them."""
    kind = layouts[0].boundary.kind
    if isinstance(data, bytes):
        return [f"0x{byte:x}" for byte in data]
    tokens = []
    for row, value in enumerate(data.value.tolist()):
        if kind == "idle" and row and data.begin_s[row] - data.end_s[row - 1] >= 0.5:
            tokens.append("r")
        faults = int(data.faults[row])
        flags = 2 if faults & lr.Fault.BREAK else 1 if faults else 0
        flags |= 4 if data.address_mark is not None and data.address_mark[row] else 0
        tokens.append(f"0x{flags << 8 | value:x}")
    return tokens
