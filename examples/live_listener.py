"""A listener of one's own: frames as they come from a port, and a word when the flow is too high.

With hardware, "/dev/ttyUSB0" stands instead of the stand-in; its time is then the clock's.
"""

import larkreader as lr
from larkreader.demo.rig import rig_sheet

HIGH = 40.0  # mL/min

sheet = rig_sheet()
status, setpoint = sheet.frame["status"], sheet.frame["setpoint"]
reader = lr.FrameReader(status)
frames = faulty = 0

with lr.open_port("stand-in:pump", sheet.line) as port:
    for flow in (10.0, 60.0, 0.0):
        port.write(setpoint.encode({"count": frames % 256, "flow": flow, "valve": [flow > 0, 0, 0, 0]}))
        begin_s = port.now_s()
        while port.now_s() - begin_s < 0.25:
            for new in reader.feed(port.read(64, 0.05).data).rows():
                frames += 1
                faulty += bool(new["faults"])
                warning = " <- too high" if new["flow"] > HIGH else ""
                print(
                    f"{new['count']:3}  {new['state']:8} {new['flow']:5.1f} mL/min  {new['pressure']:6.2f} kPa{warning}"
                )

print(f"{frames} frames, {faulty} of them faulty")
