/* An AVR whose UART is this program's standard input and output: avr_machine FIRMWARE HERTZ BAUD.

   Characters enter at the pace of the baud, in the cycles of the simulated chip. At the end it reports on standard error
   how many cycles lay between two characters that the chip sent one behind the other. */
#include <simavr/avr_uart.h>
#include <simavr/sim_avr.h>
#include <simavr/sim_elf.h>
#include <simavr/sim_time.h>

#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { BITS = 11, QUEUE = 1 << 16, TURN = 2000 };

static avr_irq_t *input;
static uint8_t queue[QUEUE];
static unsigned first, behind;
static avr_cycle_count_t character, last_sent, shortest = (avr_cycle_count_t)-1;
static int is_fed, is_over;
static avr_t *avr;

static void sent(struct avr_irq_t *irq, uint32_t value, void *param)
{
    const uint8_t byte = (uint8_t)value;
    (void)irq;
    (void)param;
    if (last_sent != 0 && avr->cycle - last_sent > 100 && avr->cycle - last_sent < shortest) {
        shortest = avr->cycle - last_sent; /* the first two leave the program at once, into the buffer and the register */
    }
    last_sent = avr->cycle;
    if (write(STDOUT_FILENO, &byte, 1) != 1) {
        is_over = 1;
    }
}

static avr_cycle_count_t feed(struct avr_t *chip, avr_cycle_count_t when, void *param)
{
    (void)chip;
    (void)param;
    if (first == behind) {
        is_fed = 0;
        return 0;
    }
    avr_raise_irq(input, queue[first++ % QUEUE]);
    return when + character;
}

static void take(int limit_ms)
{
    struct pollfd wanted = { .fd = STDIN_FILENO, .events = POLLIN };
    uint8_t bytes[4096];
    ssize_t got, i;
    if (behind - first > QUEUE - sizeof bytes || poll(&wanted, 1, limit_ms) <= 0) {
        return;
    }
    got = read(STDIN_FILENO, bytes, sizeof bytes);
    is_over = got <= 0;
    for (i = 0; i < got; i++) {
        queue[behind++ % QUEUE] = bytes[i];
    }
    if (got > 0 && !is_fed) {
        is_fed = 1;
        avr_cycle_timer_register(avr, character, feed, NULL);
    }
}

int main(int arguments, char **argument)
{
    elf_firmware_t firmware;
    uint32_t flags = 0;
    avr_cycle_count_t busy_until;
    memset(&firmware, 0, sizeof firmware);
    if (arguments != 4 || elf_read_firmware(argument[1], &firmware) != 0 || (avr = avr_make_mcu_by_name("atmega328p")) == NULL) {
        return 2;
    }
    avr->log = 0;
    firmware.frequency = (uint32_t)atol(argument[2]);
    character = (avr_cycle_count_t)(atof(argument[2]) * BITS / atof(argument[3]));
    avr_init(avr);
    avr_load_firmware(avr, &firmware);
    avr_ioctl(avr, AVR_IOCTL_UART_GET_FLAGS('0'), &flags);
    flags &= ~(uint32_t)(AVR_UART_FLAG_STDIO | AVR_UART_FLAG_POLL_SLEEP);
    avr_ioctl(avr, AVR_IOCTL_UART_SET_FLAGS('0'), &flags);
    input = avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_INPUT);
    avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUTPUT), sent, NULL);
    busy_until = 100 * character;
    while (!is_over) {
        const avr_cycle_count_t until = avr->cycle + TURN;
        while (avr->cycle < until) {
            const int state = avr_run(avr);
            if (state == cpu_Done || state == cpu_Crashed) {
                fputs("the chip has stopped\n", stderr);
                return 1;
            }
        }
        if (is_fed || last_sent + 20 * character > avr->cycle) {
            busy_until = avr->cycle + 100 * character;
        }
        take(avr->cycle < busy_until ? 0 : 20); /* with nothing to do, time waits for input */
    }
    fprintf(stderr, "%lu cycles a character\n", (unsigned long)shortest);
    return 1; /* so that the port passes the line on as a note */
}
