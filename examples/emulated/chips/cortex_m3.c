/* A Cortex-M3 whose UART has a FIFO of sixteen. */
#include "chip.h"

#define REG(at) (*(volatile uint32_t *)(at))
#define UART_DATA REG(0x4000C000u)
#define UART_ERRORS REG(0x4000C004u)
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

enum { RX_EMPTY = 1 << 4, TX_FULL = 1 << 5, UART_INTERRUPT = 5, OVERRUN = 1 << 3 };

static void interrupted(void)
{
    UART_CLEAR = 0x7FF;
    if ((UART_ERRORS & OVERRUN) != 0u) {
        overruns++;
        UART_ERRORS = 0;
    }
    while ((UART_FLAGS & RX_EMPTY) == 0u) {
        arrived++;
        bench_ring_put(&received, (uint8_t)UART_DATA);
    }
}

void chip_deafen(void)
{
    /* the emulator holds the sender back, so that nothing would be lost */
}

void chip_send(uint8_t value)
{
    while ((UART_FLAGS & TX_FULL) != 0u) {
    }
    UART_DATA = value;
}

void chip_start(void)
{
    CLOCK_GATE_UART |= 1u;
    CLOCK_GATE_PORT |= 1u;
    PIN_FUNCTION_A |= 3u;
    UART_CONTROL = 0;
    UART_INTEGER = BENCH_REGISTER_IBRD;
    UART_FRACTION = BENCH_REGISTER_FBRD;
    UART_FORMAT = 3u << 5 | 1u << 4 | 1u << 2 | 1u << 1; /* eight data bits, FIFO, even parity */
    UART_MASK = 1u << 4 | 1u << 6;
    UART_CONTROL = 1u << 9 | 1u << 8 | 1u;
    INTERRUPTS_ON = 1u << UART_INTERRUPT;
}

extern uint32_t stack_top;
int main(void);
static void stuck(void)
{
    for (;;) {
    }
}
__attribute__((used, section(".vectors"))) static void *const vectors[16 + UART_INTERRUPT + 1] = {
    &stack_top, (void *)main, (void *)stuck, (void *)stuck, [16 + UART_INTERRUPT] = (void *)interrupted,
};
