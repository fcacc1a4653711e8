/* A Cortex-M4 whose UART has one data register and no FIFO. */
#include "chip.h"

#define REG(at) (*(volatile uint32_t *)(at))
#define UART_STATUS REG(0x40011000u)
#define UART_DATA REG(0x40011004u)
#define UART_BAUD REG(0x40011008u)
#define UART_CONTROL REG(0x4001100Cu)
#define CLOCK_GATE REG(0x40023844u)
#define INTERRUPTS_ON_HIGH REG(0xE000E104u)

enum { OVERRUN = 1 << 3, RX_FULL = 1 << 5, TX_EMPTY = 1 << 7, UART_INTERRUPT = 37 };

static void interrupted(void)
{
    const uint32_t status = UART_STATUS;
    if ((status & (OVERRUN | RX_FULL)) != 0u) { /* reading the data clears both */
        const uint8_t value = (uint8_t)UART_DATA;
        overruns += (status & OVERRUN) != 0u;
        arrived++;
        bench_ring_put(&received, value);
    }
}

void chip_deafen(void)
{
    /* the emulator holds the sender back, so that nothing would be lost */
}

void chip_send(uint8_t value)
{
    while ((UART_STATUS & TX_EMPTY) == 0u) {
    }
    UART_DATA = value;
}

void chip_start(void)
{
    CLOCK_GATE |= 1u << 4;
    UART_CONTROL = 0;
    UART_BAUD = BENCH_REGISTER_BRR;
    UART_CONTROL = 1u << 13 | 1u << 12 | 1u << 10 | 1u << 5 | 1u << 3 | 1u << 2; /* nine bits with an even parity bit */
    INTERRUPTS_ON_HIGH = 1u << (UART_INTERRUPT - 32);
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
