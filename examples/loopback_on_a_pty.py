"""Does the port bring back what is sent? A loopback through a real pseudo terminal that loses three characters."""

import os
import threading
import tty

import larkreader as lr

LOST = {100, 101, 3000}


def echo(device: int, characters: int) -> None:
    """Send back what arrives, but for the characters that get lost."""
    count = 0
    while count < characters:
        data = os.read(device, 512)
        os.write(device, bytes(value for place, value in enumerate(data, count) if place not in LOST))
        count += len(data)


near, far = os.openpty()
tty.setraw(far)
plan = lr.LoopbackPlan(characters=5000, limit_s=0.2)
thread = threading.Thread(target=echo, args=(far, plan.characters), daemon=True)
thread.start()
with os.fdopen(near, "r+b", buffering=0) as port:
    result = lr.run_loopback(port, plan)

print("verdict:", result.verdict)
print(f"sent {result.sent}, received {result.received}, lost {result.lost}, changed {result.changed}")
if result.difference is not None:
    print("first difference at character", result.difference.offset)
    print("  sent    ", result.difference.sent.hex(" "))
    print("  received", result.difference.received.hex(" "))
