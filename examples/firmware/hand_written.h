/* The frames of the dosing rig as somebody wrote them by hand, for a Cortex-M. */
#ifndef HAND_WRITTEN_H
#define HAND_WRITTEN_H

#include <stdbool.h>
#include <stdint.h>

#define PACKED __attribute__((packed))
#define VALVES 4

enum pump_state { PUMP_RESTING, PUMP_DOSING, PUMP_PURGING, PUMP_HALTED };

typedef struct PACKED {
    uint16_t marker;
    uint8_t kind;
    uint8_t count;
    uint16_t flow : 12;
    uint16_t pressure : 12;
    uint16_t temperature;
    float dosed;
    enum pump_state state : 3;
    uint8_t valve : VALVES;
    uint8_t crc[2];
} status_frame_t;

struct setpoint {
    uint8_t kind;
    uint8_t count;
    uint16_t flow : 12;
    uint16_t valve : 4;
    uint16_t dose;
    uint8_t crc[2];
};

struct alarm {
    uint8_t kind;
    uint8_t cause;
    uint32_t at;
    uint8_t crc[2];
};

void pump_send(const void *frame, uint32_t length);

#endif
