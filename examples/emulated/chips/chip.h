/* What the receiver asks of a chip. */
#ifndef CHIP_H
#define CHIP_H

#include "bench.h"

extern bench_ring received;        /* filled by the chip's interrupt */
extern volatile uint32_t overruns; /* how often the UART itself has reported that characters were lost */
extern volatile uint32_t arrived;  /* characters that were received */

void chip_start(void);           /* sets the UART up, and lets it interrupt */
void chip_deafen(void);          /* takes nothing for 3 ms, where time is that of the line */
void chip_send(uint8_t value);   /* waits until the UART takes it */

#endif
