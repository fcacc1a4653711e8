/* The dosing rig's pump head, built for the machine at hand: standard input and output are its UART.
   Everything about frames is emitted from the sheet: larkreader emit bench.toml -o . */
#include "answer.h"

#include <stdio.h>

int main(void)
{
    static bench_to_pump_parser parser;
    uint8_t bytes[256];
    ssize_t got, i;
    bench_to_pump_start(&parser);
    while ((got = read(STDIN_FILENO, bytes, sizeof bytes)) > 0) {
        for (i = 0; i < got; i++) {
            bench_event event;
            bench_program program;
            bench_to_pump_feed(&parser, bytes[i], 0);
            while (bench_to_pump_next(&parser, &event)) {
                if (event.kind == BENCH_FRAME && bench_program_unpack(event.frame, event.length, &program) == 0) {
                    answer(&program);
                }
            }
        }
    }
    fprintf(stderr, "%lu programs, %lu damaged, %lu bytes skipped\n", (unsigned long)parser.frames,
            (unsigned long)parser.damaged, (unsigned long)parser.skipped);
    return 0;
}
