/* The dosing rig's pump head, built for the machine at hand: standard input and output are its UART.

   Everything about frames is emitted from the sheet: larkreader emit rig.toml -o . --end pump_head
   It takes set-points and answers each with a status. */
#include "rig.h"

#include <stdio.h>
#include <unistd.h>

static rig_status state = { .temperature = 2150 };

static void answer(const rig_setpoint *wanted)
{
    uint8_t frame[RIG_STATUS_LONGEST];
    size_t length, i;
    state.count = wanted->count;
    state.flow = wanted->flow;
    state.pressure = (uint16_t)(40u + wanted->flow / 4u);
    state.dosed += (float)wanted->flow / 6000.0f;
    state.state = wanted->flow > 0u ? RIG_STATUS_STATE_DOSING : RIG_STATUS_STATE_RESTING;
    for (i = 0; i < 4u; i++) {
        state.valve[i] = wanted->valve[i];
    }
    length = rig_status_pack(&state, frame, sizeof frame);
    if (write(STDOUT_FILENO, frame, length) != (ssize_t)length) {
        _exit(1);
    }
}

int main(void)
{
    static rig_to_pump_parser parser;
    uint8_t bytes[256];
    ssize_t got, i;
    rig_to_pump_start(&parser);
    while ((got = read(STDIN_FILENO, bytes, sizeof bytes)) > 0) {
        for (i = 0; i < got; i++) {
            rig_event event;
            rig_setpoint wanted;
            rig_to_pump_feed(&parser, bytes[i], 0);
            while (rig_to_pump_next(&parser, &event)) {
                if (event.kind == RIG_FRAME && rig_setpoint_unpack(event.frame, event.length, &wanted) == 0) {
                    answer(&wanted);
                }
            }
        }
    }
    fprintf(stderr, "%lu set-points, %lu damaged, %lu bytes skipped\n", (unsigned long)parser.frames,
            (unsigned long)parser.damaged, (unsigned long)parser.skipped);
    return 0;
}
