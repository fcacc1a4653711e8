"""One million characters through receive paths of several kinds, beside a loop that only counts a FIFO's losses."""

from __future__ import annotations

from compare import compare, show

import larkreader as lr

COUNT = 1_000_000
LINE = lr.LineSettings.parse("115200 8N1")
PAUSED = lr.LineSettings.parse("115200 8N1 rts-cts")
COSTS = {"latency_s": 1e-4, "jitter_s": 1e-4, "enter_s": 1e-6, "each_s": 1e-6}
FIFO = {"size": 16, "trigger": 8, "idle_characters": 4}
LOOP = {"kind": "periodic", "every_s": 0.01}
PATHS = {
    "FIFO, losing": lr.ReceivePath(fifo=FIFO, service={"kind": "interrupt", "latency_s": 1.5e-3}),
    "FIFO and ring": lr.ReceivePath(
        fifo=FIFO, service={"kind": "interrupt", **COSTS}, ring={"size": 1024}, application=LOOP
    ),
    "data register": lr.ReceivePath(
        service={"kind": "interrupt", "latency_s": 1e-5}, ring={"size": 1024}, application=LOOP
    ),
    "polling": lr.ReceivePath(fifo=FIFO, service={"kind": "polling", "every_s": 5e-4}),
    "DMA": lr.ReceivePath(
        service={"kind": "dma", "block": 256, **COSTS}, ring={"size": 1024}, application=LOOP
    ),
    "reads of 64": lr.ReceivePath(
        ring={"size": 1024}, application={"kind": "blocking", "length": 64, "limit_s": 0.05}
    ),
    "with pauses": lr.ReceivePath(
        fifo=FIFO,
        service={"kind": "interrupt", **COSTS},
        ring={"size": 1024},
        application={"kind": "periodic", "every_s": 0.1},
        pause={"at": 900, "resume_at": 100, "reaction_characters": 16},
    ),
}  # fmt: skip


def plain_loop(arrivals: list[float]) -> int:
    """Count what a FIFO of 16 that asks at 8 loses when it is served after 1.5 ms: the least that a loop must do."""
    held = lost = 0
    served = float("inf")
    for at in arrivals:
        if at > served:
            held, served = 0, float("inf")
        if held < 16:
            held += 1
            if held == 8:
                served = at + 1.5e-3
        else:
            lost += 1
    return lost


def main() -> None:
    burst = lr.simulate.make_burst(COUNT, LINE)
    arrivals = (burst.begin_s + 9.5 * LINE.bit_time_s).tolist()
    assert plain_loop(arrivals) == lr.replay(burst, PATHS["FIFO, losing"], LINE).lost
    ways = {"the plain loop": lambda: plain_loop(arrivals)} | {
        name: lambda path=path: lr.replay(burst, path, PAUSED if path.pause else LINE) for name, path in PATHS.items()
    }
    seconds = compare(ways, rounds=3)
    show(f"{COUNT:,} characters without a gap", seconds, dict.fromkeys(ways, COUNT), "character")
    print("seconds of CPU: " + ", ".join(f"{name} {taken:.1f}" for name, taken in seconds.items()))


if __name__ == "__main__":
    main()
