"""Who answers whom, how soon, and what goes wrong when a reply is late? Both wires of the rig's service link."""

import numpy as np

import larkreader as lr
from larkreader.demo.service import make_service

service = make_service()
reading = lr.read(service.sheet, {key: service.traces[wire.source] for key, wire in service.sheet.wire.items()})
pairs, timeline = reading.pairs["value"], reading.timeline

print(f"{len(timeline)} messages, {len(pairs)} requests:")
for state in lr.PairState:
    print(f"  {pairs.count(state):3} {state.name.lower().replace('_', ' ')}")
took_ms = 1e3 * pairs.latencies_s
print(f"replies begin after {took_ms.min():.2f} to {took_ms.max():.2f} ms, median {np.median(took_ms):.2f} ms")

print("what a cycle consists of, median:")
for part, column in pairs.parts().items():
    print(f"  {part:8} {1e3 * np.nanmedian(column):6.2f} ms")

for number in np.flatnonzero(pairs.state == lr.PairState.UNANSWERED).tolist():
    at_s = timeline.begin_s[pairs.request[number]]
    after = "repeated" if (pairs.again == number).any() else "given up"
    print(f"request {number} at {at_s:.3f} s got no reply, and was {after}")

for finding in reading.findings:
    if finding.kind in ("collision", "short-turnaround", "late-reply"):
        print(f"{finding.kind}: {finding.text.split('. ')[0]}.")

picture = lr.new_figure()
lr.draw_timeline(reading, begin_s=3.69, end_s=3.83, ax=picture.add_subplot())
picture.savefig("two_way_timing.png")
