/* How the pump head answers a program, whatever receives it. */
#ifndef ANSWER_H
#define ANSWER_H

#include "bench.h"

#include <unistd.h>

static inline void answer(const bench_program *program)
{
    static uint8_t count;
    bench_accepted accepted = { .flow = program->flow, .count = count++ };
    uint8_t frame[BENCH_ACCEPTED_LONGEST];
    size_t length, i;
    for (i = 0; i < program->valve_count; i++) {
        accepted.open = (uint16_t)(accepted.open + program->valve[i]);
    }
    length = bench_accepted_pack(&accepted, frame, sizeof frame);
    if (write(STDOUT_FILENO, frame, length) != (ssize_t)length) {
        _exit(1);
    }
}

#endif
