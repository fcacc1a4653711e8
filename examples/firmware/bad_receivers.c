/* Three receivers with mistakes that many have made; the only argument names which of them runs.

   no-look-back   The byte that breaks a marker is thrown away, though a marker may begin with it; and with a frame
                  whose checksum is wrong go the sound frames that it has swallowed.
   trusts-length  It waits for as many bytes as the length claims, however many, before it looks at anything else.
   no-time-out    It counts from frame to frame. Once it is out of step it waits for a rest that it does not measure. */
#include "answer.h"

static void look(const uint8_t *frame, size_t length)
{
    bench_program program;
    if (bench_program_unpack(frame, length, &program) == 0) {
        answer(&program);
    }
}

static void no_look_back(uint8_t byte)
{
    static uint8_t frame[BENCH_PROGRAM_LONGEST];
    static size_t count;
    frame[count++] = byte;
    if ((count == 1 && byte != 0xA6) || (count == 2 && byte != 0x3C)
        || (count == 3 && (byte < BENCH_PROGRAM_SHORTEST - 3u || byte > BENCH_PROGRAM_LONGEST - 3u))) {
        count = 0;
    } else if (count > 3 && count == 3u + frame[2]) {
        look(frame, count);
        count = 0;
    }
}

static void trusts_length(uint8_t byte)
{
    static uint8_t frame[3 + 255];
    static size_t count;
    if (count == 1 && byte == 0xA6) {
        return; /* it does look back */
    }
    frame[count++] = byte;
    if ((count == 1 && byte != 0xA6) || (count == 2 && byte != 0x3C)) {
        count = 0;
    } else if (count > 3 && count >= 3u + frame[2]) {
        look(frame, count);
        count = 0;
    }
}

static void no_time_out(uint8_t byte)
{
    static uint8_t frame[BENCH_PROGRAM_LONGEST];
    static size_t count;
    static bool is_lost;
    if (is_lost) {
        return; /* until the line rests */
    }
    frame[count++] = byte;
    if (count == 3 && (frame[0] != 0xA6 || frame[1] != 0x3C || frame[2] > BENCH_PROGRAM_LONGEST - 3u)) {
        is_lost = true;
    } else if (count > 3 && count == 3u + frame[2]) {
        look(frame, count);
        count = 0;
    }
}

int main(int arguments, char **argument)
{
    static const struct {
        const char *name;
        void (*receive)(uint8_t byte);
    } receivers[] = {
        { "no-look-back", no_look_back },
        { "trusts-length", trusts_length },
        { "no-time-out", no_time_out },
    };
    size_t i;
    uint8_t byte;
    for (i = 0; i < sizeof receivers / sizeof receivers[0]; i++) {
        if (arguments == 2 && strcmp(argument[1], receivers[i].name) == 0) {
            while (read(STDIN_FILENO, &byte, 1) == 1) {
                receivers[i].receive(byte);
            }
            return 0;
        }
    }
    return 2;
}
