"""What does a wrong setting look like? The same wire read as 8E1, which it is, and as 8O1 and 7E1, which it is not."""

import larkreader as lr

sent = b"pump ready\r\n"
trace = lr.transmit(sent, lr.LineSettings.parse("57600 8E1"))

for text in ("57600 8E1", "57600 8O1", "57600 7E1", "57600 8E1 idle-low", "28800 8E1"):
    characters = lr.receive(trace, lr.LineSettings.parse(text))
    faults = {name: characters.count(lr.Fault[name]) for name in ("PARITY", "FRAMING", "BREAK")}
    names = ", ".join(f"{count} {name.lower()}" for name, count in faults.items() if count) or "no faults"
    print(f"{text:19} {len(characters):2} characters, {names:22} {bytes(characters.value.astype('u1').tolist())!r}")
