/* An AVR of 8 bits, whose UART holds two characters. */
#include "chip.h"

#include <avr/interrupt.h>
#include <avr/io.h>
#include <util/delay.h>

#ifndef DIVISOR_MORE /* by how much the divisor is wrong */
#define DIVISOR_MORE 0
#endif
#ifndef PARITY /* even; odd with the lower bit too */
#define PARITY _BV(UPM01)
#endif

ISR(USART_RX_vect)
{
    const uint8_t status = UCSR0A;
    overruns += (status & _BV(DOR0)) != 0u;
    arrived++;
    bench_ring_put(&received, UDR0);
}

void chip_deafen(void)
{
    cli();
    _delay_ms(3);
    sei();
}

void chip_send(uint8_t value)
{
    while ((UCSR0A & _BV(UDRE0)) == 0u) {
    }
    UDR0 = value;
}

void chip_start(void)
{
    UCSR0A = _BV(U2X0);                                 /* eight samples a bit */
    UBRR0H = BENCH_REGISTER_UBRRH;
    UBRR0L = BENCH_REGISTER_UBRRL + DIVISOR_MORE;
    UCSR0C = PARITY | _BV(UCSZ01) | _BV(UCSZ00);         /* eight data bits */
    UCSR0B = _BV(RXCIE0) | _BV(RXEN0) | _BV(TXEN0);
    sei();
}
