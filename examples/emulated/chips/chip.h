/* What the receiver asks of a chip. */
#ifndef CHIP_H
#define CHIP_H

#include "bench.h"

extern bench_ring received;        /* filled by the chip's interrupt */
extern volatile uint32_t overruns; /* characters that the UART itself reports as lost */

void chip_start(void);           /* sets the UART up, and lets it interrupt */
void chip_send(uint8_t value);   /* waits until the UART takes it */

#endif
