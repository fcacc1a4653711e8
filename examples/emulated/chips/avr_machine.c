/* An AVR whose UART is this program's standard input and output: avr_machine FIRMWARE HERTZ BAUD [WAVE].

   Characters enter at the pace of the baud, as 8E1, in the cycles of the simulated chip. The levels of both wires are
   written into the file WAVE; those of what the chip sends follow from its registers: divisor and format. The UART holds
   two characters, and a third in its shift register; how many were lost beyond that stands on standard error at the end. */
#include <simavr/avr_uart.h>
#include <simavr/fifo_declare.h>
#include <simavr/sim_avr.h>
#include <simavr/sim_elf.h>
#include <simavr/sim_time.h>

#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* A UART holds two characters and a third in its shift register; a character has eleven bits. */
enum { HOLDS = 3, BITS = 11, QUEUE = 1 << 16, TURN = 2000 };

static avr_irq_t *input;
static avr_uart_t *uart;
static unsigned long lost;
static uint8_t queue[QUEUE];
static unsigned first, behind;
static avr_cycle_count_t character, last_sent;
static int is_fed, is_over;
static avr_t *avr;
static avr_cycle_count_t free_from; /* when the line is free for the next character */

enum { UCSRA = 0xC0, UCSRC = 0xC2, UBRRL = 0xC4, UBRRH = 0xC5 }; /* where the registers lie in the data memory */

typedef struct {
    avr_cycle_count_t at;
    char wire; /* 'r' to the pump, 's' from it */
    char level;
} change;

static change changes[1 << 20];
static size_t count;

static void set_level(char wire, avr_cycle_count_t at, int level)
{
    if (count < sizeof changes / sizeof changes[0]) {
        changes[count++] = (change){ at, wire, (char)('0' + level) };
    }
}

/* Notes the levels of one character; a parity of 0 is none, of 2 even, of 3 odd. Returns when its stop bits end. */
static avr_cycle_count_t character_of(char wire, avr_cycle_count_t at, double bit, uint8_t byte, int data_bits, int parity, int stops)
{
    int ones = 0, place, bits = 0;
    set_level(wire, at, 0);
    for (place = 0; place < data_bits; place++) {
        const int high = (byte >> place) & 1;
        ones += high;
        set_level(wire, at + (avr_cycle_count_t)(++bits * bit), high);
    }
    if (parity != 0) {
        set_level(wire, at + (avr_cycle_count_t)(++bits * bit), (ones & 1) ^ (parity & 1));
    }
    set_level(wire, at + (avr_cycle_count_t)(++bits * bit), 1);
    return at + (avr_cycle_count_t)((bits + stops) * bit);
}

/* What the chip sends, by its registers; data sheet of the ATmega328P, 19.3 the divisor, 19.10 the format. */
static void note_sent(uint8_t byte)
{
    const uint8_t format = avr->data[UCSRC];
    const unsigned divisor = (avr->data[UBRRL] | (unsigned)(avr->data[UBRRH] & 15) << 8) + 1;
    const unsigned bit = divisor * ((avr->data[UCSRA] & 2) != 0 ? 8 : 16);
    const avr_cycle_count_t at = free_from > avr->cycle ? free_from : avr->cycle;
    free_from = character_of('s', at, bit, byte, 5 + ((format >> 1) & 3), (format >> 4) & 3, (format & 8) != 0 ? 2 : 1);
}

static int by_time(const void *one, const void *other)
{
    const change *a = one, *b = other;
    return a->at < b->at ? -1 : a->at > b->at;
}

static void write_wave(const char *name)
{
    FILE *wave = fopen(name, "w");
    char last[2] = { '1', '1' };
    size_t i;
    if (wave == NULL) {
        return;
    }
    qsort(changes, count, sizeof changes[0], by_time);
    fputs("$timescale 100 ps $end\n$var wire 1 s from_pump $end\n$var wire 1 r to_pump $end\n", wave);
    fputs("$enddefinitions $end\n#0\n1s\n1r\n", wave);
    for (i = 0; i < count; i++) {
        char *before = &last[changes[i].wire == 'r'];
        if (*before != changes[i].level) {
            *before = changes[i].level;
            fprintf(wave, "#%.0f\n%c%c\n", (double)changes[i].at * 1e10 / avr->frequency, *before, changes[i].wire);
        }
    }
    fprintf(wave, "#%.0f\n", (double)(free_from > avr->cycle ? free_from : avr->cycle) * 1e10 / avr->frequency);
    fclose(wave);
}

static void sent(struct avr_irq_t *irq, uint32_t value, void *param)
{
    const uint8_t byte = (uint8_t)value;
    (void)irq;
    (void)param;
    last_sent = avr->cycle;
    note_sent(byte);
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
    character_of('r', when, (double)character / BITS, queue[first % QUEUE], 8, 2, 1);
    if ((size_t)((uart->input.write - uart->input.read) & 63) < HOLDS) {
        avr_raise_irq(input, queue[first % QUEUE]);
    } else {
        avr_regbit_set(avr, uart->dor);
        lost++;
    }
    first++;
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
    if (arguments < 4 || arguments > 5 || elf_read_firmware(argument[1], &firmware) != 0 || (avr = avr_make_mcu_by_name("atmega328p")) == NULL) {
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
    for (avr_io_t *part = avr->io_port; part != NULL; part = part->next) {
        if (strcmp(part->kind, "uart") == 0) {
            uart = (avr_uart_t *)part;
        }
    }
    if (uart == NULL) {
        return 2;
    }
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
    if (arguments == 5) {
        write_wave(argument[4]);
    }
    fprintf(stderr, "%lu characters lost\n", lost);
    return lost != 0; /* so that the port passes that line on */
}
