"""The pump head's text is garbled: what its wire really looks like, and which setting is wrong."""

import larkreader as lr

declared = lr.LineSettings.parse("57600 8E1")
text = b"flow 12.5 mL/min pressure 101.3 kPa\r\n" * 4

# A divisor for 16 MHz on a board with a 12 MHz crystal, half a percent slow.
trace = lr.transmit(text, lr.LineSettings.parse("43200 8E1"), clock_error_ppm=-5000)
print("read as declared:", lr.present.visible(lr.receive(trace, declared).value[:24].tolist()))

diagnosis = lr.diagnose(trace, declared)
for finding in diagnosis.findings:
    print(f"{finding.kind}: {finding.text}")
assert diagnosis.proposal is not None
print("read as proposed:", lr.present.visible(lr.receive(trace, diagnosis.proposal).value[:24].tolist()))

# The other end shows bytes alone, and is set to 8N1.
receiver = lr.LineSettings.parse("9600 8N1")
best = lr.find_garble(bytes.fromhex("66 6c 6f 77 a0 b1 b2 2e 35 a0 ed cc"), receiver)[0]
print(f"{best.mistake}: {best.recovered.decode()}")
