"""Each model as its users write it, with tables as mappings and lists as lists; type-checked, and run."""

from typing import assert_type

import larkreader as lr

line = lr.LineSettings(baud=57_600, format="8E1", idle="high", first_bit="lsb", flow_control="rts-cts")
layout = lr.FrameLayout(
    key="status",
    wire="from_pump",
    boundary={"kind": "marker", "marker": "D7 4B"},
    fields=[
        {"name": "kind", "type": "uint8", "equals": 0x21},
        {"name": "flow", "type": "uint12", "scale": 0.1, "unit": "mL/min", "range": [0, 300]},
        {"reserved": 4},
        lr.declare.NamedField(name="state", type="uint8", names={"resting": 0, "dosing": 1}, invalid=[255]),
        lr.declare.FieldGroup(group="valve", fields=[{"name": "open", "type": "flag"}, {"reserved": 7}], repeat=2),
        lr.declare.NamedField(name="crc", type="checksum"),
    ],
    checksum={"algorithm": "CRC-16/IBM-3740", "from": "kind"},
    period=0.1,
)
assert_type(layout.checksum, lr.declare.FrameChecksum | None)
assert layout.length == 10, layout.length

lr.FrameLayout(boundary=lr.declare.MarkerBoundary(marker="D7 4B", end="0D"))
lr.FrameLayout(boundary=lr.declare.TerminatorBoundary(terminator=["\r\n", "\n"]))
lr.FrameLayout(boundary=lr.declare.IdleBoundary(characters=3.5))
lr.FrameLayout(boundary=lr.declare.CobsBoundary())
lr.FrameLayout(boundary={"kind": "fixed", "length": 8})

own = lr.declare.CrcAlgorithm(width=16, poly=0x1021, init=0xFFFF)
assert lr.calculate_checksum(b"123456789", own) == 0x29B1
checked = lr.declare.FrameChecksum(algorithm={"width": 8, "poly": 0x07}, from_="flow", order="big")
assert_type(checked.from_, str | None)

clock = lr.Clock(key="crystal", hertz=8_000_000, accuracy="50 ppm", temperature=[-20, 60])
generator = lr.BaudGenerator(
    key="divider",
    divisor_bits=16,
    oversampling=[16, 8],
    words=[{"name": "BRR", "bits": 16, "holds": [{"of": "divisor", "bits": 16}]}],
)
assert_type(generator.oversampling, tuple[int, ...])
end = lr.declare.End(key="controller", sends="to_pump", receives=["from_pump"], clock="crystal", levels="lvcmos-3.3")
register = lr.declare.Register(fields={"enable": 0, "parity": "10:9"})
rule = lr.declare.Rule(needs="clock_on", sets=["sending"])
joint = lr.declare.Connection(joins=["controller.tx", "pump.rx"])

path = lr.ReceivePath(
    key="to_pump",
    fifo={"size": 16, "trigger": 8},
    service={"kind": "interrupt", "latency_s": 1.5e-3},
    ring=lr.declare.Ring(size=64),
    application={"kind": "periodic", "every_s": 1e-3},
    deaf=[{"for_s": 1e-3, "every_s": 0.1}],
)
assert_type(path.fifo, lr.declare.Fifo)
assert_type(path.ring, lr.declare.Ring | None)
sends = lr.SendPath(call={"limit_s": 0.1}, direction={"before_s": 1e-5})
assert_type(sends.call, lr.declare.Call)
impairments = lr.Impairments(far_ppm=20_000, bit_error_ratio=1e-4)

plan = lr.LoopbackPlan(characters=5000, pattern="prbs-15", avoid=[0x11, 0x13], limits={"lost": 1})
assert_type(plan.limits, lr.declare.LoopbackLimits)
matrix = lr.LoopbackMatrix(bauds=[9600, 57_600], formats=["8N1", "8E1"], blocks=[16], pauses_s=[0.0, 0.01])
assert_type(matrix.bauds, tuple[float, ...])
exchange = lr.Exchange(send=r"flow 12.5\n", expect=r"ok: flow {flow:number}\n", where={"flow": [12, 13]})
pairing = lr.declare.Pairing(request="setpoint", reply=["status", "alarm"], match={"count": "count"})
assert_type(pairing.reply, tuple[str, ...])
form = lr.CaptureForm(rate=24e6, bits=8, thresholds=[0.8, 2.0])

sheet = lr.Sheet(
    title="Dosing rig",
    line={"baud": 57_600, "format": "8E1"},
    wire={"from_pump": {"signal": "rig.pump_tx"}, "to_pump": lr.declare.Wire(line=line)},
    frame={"status": layout},
    clock={"crystal": clock},
    generator={"divider": generator},
    receive={"to_pump": path},
    loopback=matrix,
    pair={"flow": {"request": "to_pump", "reply": "status"}},
)
assert_type(sheet.wire["from_pump"].line, lr.LineSettings)
