"""The pump head sends its history in one go: what the controller loses, where, and what would help."""

import larkreader as lr
from larkreader.demo.rig import make_history

history = make_history(paused=False)
line, path = history.sheet.wire["from_pump"].line, history.sheet.receive["from_pump"]
characters = lr.receive(history.traces["rig.pump_tx"], line)

result = lr.replay(characters, path, line)
print(f"{len(result)} characters into a ring of {path.ring.size if path.ring else 0}:")
for fate in lr.simulate.Fate:
    if result.count(fate):
        print(f"  {result.count(fate)} {fate.name.lower()}")

limits = lr.find_limits(characters, path, line)
print(f"A ring of {limits.ring_needed} loses nothing of it; {limits.ring_bound} are enough however the phases lie.")
if limits.slowest_s is not None and limits.slowest_bound_s is not None:
    print(
        f"Interrupts may be {limits.slowest_s * 1e6:.0f} µs late; by arithmetic {limits.slowest_bound_s * 1e6:.0f} µs."
    )

paused = make_history(paused=True)
result = lr.replay(characters, path, paused.sheet.wire["from_pump"].line)
print(
    f"With flow control: {result.lost} lost, {len(result.pauses_s)} pauses, ring {result.high_water('ring')} at most."
)

print("Served by polling, instead:")
for every_s in (0.5e-3, 1.5e-3, 3e-3):
    polling = lr.declare.PollingService(kind="polling", every_s=every_s)
    result = lr.replay(characters, path.model_copy(update={"service": polling}), line)
    overruns, dropped = result.count(lr.simulate.Fate.OVERRUN), result.count(lr.simulate.Fate.DROPPED)
    print(f"  every {every_s * 1e3:g} ms: the hardware loses {overruns}, the ring {dropped}")

print("The same text, sent by code that writes without waiting for an empty register:")
careless = lr.SendPath.model_validate({"call": {"kind": "register", "checks": False, "every_s": 50e-6}})
sent = lr.simulate.replay_send([0.0], [100], careless, line)
for finding in lr.judge.judge_send_path("to_pump", sent, line):
    print(f"  {finding.text}")
