/* The dosing rig's pump head on a chip: everything about frames is emitted from the sheet. */
#include "chip.h"

bench_ring received;
volatile uint32_t overruns, arrived;

static uint8_t ring[256];
static bench_to_pump_parser parser;

static void answer(const bench_program *program)
{
    static uint8_t count;
    bench_accepted accepted;
    uint8_t frame[BENCH_ACCEPTED_LONGEST];
    size_t length, i;
    memset(&accepted, 0, sizeof accepted);
    accepted.flow = program->flow;
    accepted.count = count++;
    accepted.arrived = (uint16_t)arrived;
    accepted.overruns = (uint8_t)overruns;
    for (i = 0; i < program->valve_count; i++) {
        accepted.open = (uint16_t)(accepted.open + program->valve[i]);
    }
    length = bench_accepted_pack(&accepted, frame, sizeof frame);
    for (i = 0; i < length; i++) {
        chip_send(frame[i]);
    }
}

int main(void)
{
    uint8_t byte;
    bench_ring_start(&received, ring, sizeof ring);
    bench_to_pump_start(&parser);
    bench_program program;
    memset(&program, 0, sizeof program);
    chip_start();
    answer(&program); /* it is ready */
    for (;;) {
        bench_event event;
        if (!bench_ring_get(&received, &byte)) {
            continue;
        }
        bench_to_pump_feed(&parser, byte, 0);
        while (bench_to_pump_next(&parser, &event)) {
            if (event.kind == BENCH_FRAME && bench_program_unpack(event.frame, event.length, &program) == 0) {
                answer(&program);
                if (program.flow == 0u) {
                    chip_deafen(); /* as while flash is written */
                }
            }
        }
    }
}
