/* The dosing rig's pump head on a Cortex-M3 board: an echo, an altered echo, framed telemetry, and a slow ring buffer
 * that loses characters and counts them.
 *
 * Commands are lines of text. "echo N", "altered N" and "slow N" take the next N characters as data, send them back,
 * and return to commands; "status N" sends N status messages; "lost?" answers how many characters the ring has lost.
 */
#include <stdint.h>

#define REG(at) (*(volatile uint32_t *)(at))
#define UART_DATA REG(0x4000C000u)
#define UART_FLAGS REG(0x4000C018u)
#define UART_INTEGER REG(0x4000C024u)
#define UART_FRACTION REG(0x4000C028u)
#define UART_FORMAT REG(0x4000C02Cu)
#define UART_CONTROL REG(0x4000C030u)
#define UART_MASK REG(0x4000C038u)
#define UART_CLEAR REG(0x4000C044u)
#define CLOCK_GATE_UART REG(0x400FE104u)
#define CLOCK_GATE_PORT REG(0x400FE108u)
#define PIN_FUNCTION_A REG(0x40004420u)
#define INTERRUPTS_ON REG(0xE000E100u)

enum { RX_EMPTY = 1 << 4, TX_FULL = 1 << 5, UART_INTERRUPT = 5, RING = 2048, SLOW_RING = 64, SLOW_TURNS = 3000 };

static volatile uint8_t ring[RING];
static volatile uint32_t head, tail, capacity, arrived, lost; /* in memory that begins as zeros */

static void send(uint8_t value) {
    while (UART_FLAGS & TX_FULL) {}
    UART_DATA = value;
}

static void say(const char *text) {
    while (*text) send((uint8_t)*text++);
}

static void say_number(uint32_t value) {
    char digits[11];
    int place = 10;
    digits[place] = 0;
    do digits[--place] = (char)('0' + value % 10); while (value /= 10);
    say(digits + place);
}

void received(void) { /* the interrupt handler: whatever the FIFO holds goes into the ring, or is lost and counted */
    UART_CLEAR = 0x7FF;
    while (!(UART_FLAGS & RX_EMPTY)) {
        uint8_t value = (uint8_t)UART_DATA;
        arrived++;
        if (head - tail >= capacity) lost++;
        else ring[head++ % RING] = value;
    }
}

static uint8_t take(void) {
    while (head == tail) {}
    return ring[tail++ % RING];
}

static void give_back(uint32_t count, uint8_t change, uint32_t turns) {
    arrived = lost = 0; /* nothing precedes "ok" */
    say("ok\n");
    for (;;) {
        if (arrived >= count && head == tail) return; /* in this order: what arrives last is in the ring by then */
        if (head == tail) continue;
        send(take() ^ change);
        for (volatile uint32_t turn = 0; turn < turns; turn++) {}
    }
}

static uint16_t crc_of(const uint8_t *data, int count) { /* CRC-16/IBM-3740 */
    uint16_t crc = 0xFFFF;
    while (count--) {
        crc ^= (uint16_t)(*data++ << 8);
        for (int bit = 0; bit < 8; bit++) crc = (uint16_t)(crc & 0x8000 ? crc << 1 ^ 0x1021 : crc << 1);
    }
    return crc;
}

static void send_status(uint8_t count) {
    static const uint8_t dosed[4] = {0x00, 0x00, 0x48, 0x41}; /* 12.5 as a float */
    uint32_t flow = 1250, pressure = 420;
    int16_t temperature = 2150;
    uint8_t frame[16] = {0xD7, 0x4B, 0x21, count};
    frame[4] = (uint8_t)flow;
    frame[5] = (uint8_t)(flow >> 8 | pressure << 4);
    frame[6] = (uint8_t)(pressure >> 4);
    frame[7] = (uint8_t)(temperature >> 8);
    frame[8] = (uint8_t)temperature;
    for (int place = 0; place < 4; place++) frame[9 + place] = dosed[place];
    frame[13] = 1 | 1 << 3; /* dosing, the first valve open */
    uint16_t crc = crc_of(frame + 2, 12);
    frame[14] = (uint8_t)(crc >> 8);
    frame[15] = (uint8_t)crc;
    for (int place = 0; place < 16; place++) send(frame[place]);
}

static int begins(const char *line, const char *word) {
    while (*word) if (*line++ != *word++) return 0;
    return 1;
}

static uint32_t number_in(const char *line) {
    uint32_t value = 0;
    for (; *line; line++) if (*line >= '0' && *line <= '9') value = 10 * value + (uint32_t)(*line - '0');
    return value;
}

int main(void) {
    char line[32];
    uint8_t count = 0;
    capacity = RING - 1;
    CLOCK_GATE_UART |= 1;
    CLOCK_GATE_PORT |= 1;
    PIN_FUNCTION_A |= 3;
    UART_CONTROL = 0;
    UART_INTEGER = 27; /* 50 MHz / (16 * 115200) = 27.127 */
    UART_FRACTION = 8;
    UART_FORMAT = 3 << 5 | 1 << 4; /* eight data bits, FIFO of 16 */
    UART_MASK = 1 << 4 | 1 << 6;
    UART_CONTROL = 1 << 9 | 1 << 8 | 1;
    INTERRUPTS_ON = 1u << UART_INTERRUPT;
    say("pump head ready\r\n");
    for (;;) {
        uint32_t length = 0;
        for (uint8_t value; (value = take()) != '\n';) if (length < sizeof line - 1) line[length++] = (char)value;
        line[length] = 0;
        uint32_t number = number_in(line);
        if (begins(line, "echo ")) give_back(number, 0, 0);
        else if (begins(line, "altered ")) give_back(number, 0x5A, 0);
        else if (begins(line, "slow ")) {
            capacity = SLOW_RING;
            give_back(number, 0, SLOW_TURNS);
            capacity = RING - 1;
        }
        else if (begins(line, "status ")) while (number--) send_status(count++);
        else if (begins(line, "lost?")) { say("lost "); say_number(lost); say("\n"); }
        else say("what?\n");
    }
}

extern uint32_t stack_top;
static void stuck(void) { for (;;) {} }
__attribute__((used, section(".vectors"))) static void *const vectors[16 + UART_INTERRUPT + 1] = {
    &stack_top, (void *)main, (void *)stuck, (void *)stuck, [16 + UART_INTERRUPT] = (void *)received,
};
