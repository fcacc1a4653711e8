/* The works of the engine as a person writes them in C: one pass, no cleverness.
 *
 * The yardstick of bench_against_c.py, which builds this file as a shared library and gives it the same input as the
 * engine. Every function returns how many characters, edges, frames or packets it wrote, so that a result can be
 * compared. */

#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

/* Edges to characters, 8E1, idle high: wait for a falling edge, look at the middle of each of eleven bits. */
size_t receive(const int64_t *edges, size_t count, int level, double bit, double tick, double *times, uint16_t *values,
               uint8_t *flags)
{
    size_t place = 0, found = 0;
    int64_t offsets[11];
    for (int sample = 0; sample < 11; sample++)
        offsets[sample] = (int64_t)((sample + 0.5) * bit);
    while (place < count) {
        int64_t start = edges[place++];
        level ^= 1;
        if (level)
            continue;
        unsigned word = 0;
        for (int sample = 0; sample < 11; sample++) {
            int64_t at = start + offsets[sample];
            while (place < count && edges[place] <= at) {
                level ^= 1;
                place++;
            }
            word |= (unsigned)level << sample;
        }
        if (word & 1)
            continue;
        unsigned value = word >> 1 & 0xFF;
        times[found] = (double)start * tick;
        values[found] = (uint16_t)value;
        flags[found] = (uint8_t)((__builtin_parity(value) != (int)(word >> 9 & 1)) | (word >> 10 & 1 ? 0 : 2));
        found++;
    }
    return found;
}

/* Samples to edges, eight samples a byte, first sample in the lowest bit. */
size_t packed_edges(const uint8_t *data, size_t size, int64_t *edges)
{
    size_t found = 0;
    unsigned before = data[0] & 1;
    for (size_t byte = 0; byte < size; byte++) {
        unsigned changes = data[byte] ^ ((data[byte] << 1 & 0xFF) | before);
        before = data[byte] >> 7;
        while (changes) {
            edges[found++] = (int64_t)(byte * 8 + (size_t)__builtin_ctz(changes));
            changes &= changes - 1;
        }
    }
    return found;
}

/* Samples to edges, one of the eight channels that a byte holds. */
size_t channel_edges(const uint8_t *data, size_t size, unsigned mask, int64_t *edges)
{
    size_t found = 0;
    unsigned before = data[0] & mask;
    for (size_t number = 0; number < size; number++) {
        unsigned level = data[number] & mask;
        if (level != before) {
            edges[found++] = (int64_t)number;
            before = level;
        }
    }
    return found;
}

/* CRC of 16 bits with the high bit first, and of 32 bits with the low bit first, one table look-up a byte. */
static uint32_t crc16(const uint16_t *table, const uint8_t *data, size_t size)
{
    uint16_t crc = 0xFFFF;
    for (size_t place = 0; place < size; place++)
        crc = (uint16_t)(crc << 8) ^ table[(crc >> 8) ^ data[place]];
    return crc;
}

static uint32_t crc32(const uint32_t *table, const uint8_t *data, size_t size)
{
    uint32_t crc = 0xFFFFFFFFu;
    for (size_t place = 0; place < size; place++)
        crc = crc >> 8 ^ table[(crc ^ data[place]) & 0xFF];
    return ~crc;
}

void crc16_of_messages(const uint16_t *table, const uint8_t *data, size_t messages, size_t length, uint64_t *results)
{
    for (size_t message = 0; message < messages; message++)
        results[message] = crc16(table, data + message * length, length);
}

void crc32_of_messages(const uint32_t *table, const uint8_t *data, size_t messages, size_t length, uint64_t *results)
{
    for (size_t message = 0; message < messages; message++)
        results[message] = crc32(table, data + message * length, length);
}

/* Frames of the dosing rig, 16 bytes: marker D7 4B, kind, count, 12 and 12 bits, 16 bits, float, state and valves, CRC. */
struct frame_columns {
    int64_t *offset;
    uint8_t *kind, *count, *state, *valves, *spare, *faults;
    double *flow, *pressure, *temperature;
    float *dosed;
    uint16_t *crc;
};

size_t frames(const uint16_t *table, const uint8_t *data, size_t size, struct frame_columns *to)
{
    size_t found = 0, place = 0;
    while (place + 16 <= size) {
        const uint8_t *at = data + place;
        if (at[0] != 0xD7 || at[1] != 0x4B) {
            place++;
            continue;
        }
        uint16_t crc = (uint16_t)(at[14] << 8 | at[15]);
        if (crc16(table, at + 2, 12) != crc) {
            place++;
            continue;
        }
        uint32_t packed = (uint32_t)at[4] | (uint32_t)at[5] << 8 | (uint32_t)at[6] << 16;
        to->offset[found] = (int64_t)place;
        to->kind[found] = at[2];
        to->count[found] = at[3];
        to->flow[found] = (packed & 0xFFF) * 0.1;
        to->pressure[found] = (packed >> 12) * 0.25;
        to->temperature[found] = (int16_t)(at[7] << 8 | at[8]) * 0.01;
        memcpy(&to->dosed[found], at + 9, 4);
        to->state[found] = at[13] & 7;
        for (int valve = 0; valve < 4; valve++)
            to->valves[found * 4 + (size_t)valve] = at[13] >> (3 + valve) & 1;
        to->spare[found] = at[13] >> 7;
        to->crc[found] = crc;
        unsigned state = at[13] & 7;
        unsigned wrong = at[2] != 0x21 || at[13] >> 7 || !(state < 3 || state == 7);
        to->faults[found] = (uint8_t)((wrong ? 2 : 0) | (to->flow[found] > 300 ? 4 : 0));
        found++;
        place += 16;
    }
    return found;
}

/* VCD to the changes of one wire with a code of one letter: line after line. */
size_t vcd_changes(const char *text, size_t size, char code, int64_t *times, uint8_t *values)
{
    const char *end = text + size, *at = strstr(text, "$enddefinitions");
    size_t found = 0;
    int64_t now = 0;
    at = at ? memchr(at, '\n', (size_t)(end - at)) : end;
    while (at && ++at < end) {
        if (*at == '#') {
            now = 0;
            for (at++; *at >= '0' && *at <= '9'; at++)
                now = now * 10 + (*at - '0');
        } else if ((*at == '0' || *at == '1' || *at == 'x' || *at == 'z') && at[1] == code && at[2] <= ' ') {
            times[found] = now;
            values[found++] = (uint8_t)*at;
            at += 2;
        }
        while (at < end && *at != '\n')
            at++;
    }
    return found;
}

/* Packets by consistent overhead byte stuffing: their bytes, and where each ends. */
size_t cobs(const uint8_t *data, size_t size, uint8_t *bytes, int64_t *ends)
{
    size_t packets = 0, written = 0;
    unsigned code = 0xFF, left = 0;
    for (size_t place = 0; place < size; place++) {
        uint8_t byte = data[place];
        if (byte == 0) {
            ends[packets++] = (int64_t)written;
            code = 0xFF;
            left = 0;
        } else if (left == 0) {
            if (code != 0xFF)
                bytes[written++] = 0;
            code = byte;
            left = byte - 1u;
        } else {
            bytes[written++] = byte;
            left--;
        }
    }
    return packets;
}

/* Packets by RFC 1055: their bytes, and where each ends. */
size_t slip(const uint8_t *data, size_t size, uint8_t *bytes, int64_t *ends)
{
    size_t packets = 0, written = 0;
    int is_escaped = 0;
    for (size_t place = 0; place < size; place++) {
        uint8_t byte = data[place];
        if (byte == 0xC0) {
            ends[packets++] = (int64_t)written;
            is_escaped = 0;
        } else if (is_escaped) {
            bytes[written++] = byte == 0xDC ? 0xC0 : byte == 0xDD ? 0xDB : byte;
            is_escaped = 0;
        } else if (byte == 0xDB) {
            is_escaped = 1;
        } else {
            bytes[written++] = byte;
        }
    }
    return packets;
}
