"""What did the pump head measure? Packed fields of the rig's status frames, as columns with their units."""

import larkreader as lr
from larkreader.demo.rig import make_rig

rig = make_rig()
wire = rig.sheet.wire["from_pump"]
characters = lr.receive(rig.traces[wire.source], wire.line)
frames = lr.read_layouts(characters, rig.sheet.layouts_of("from_pump"))["status"]

good = frames[frames.faults == 0]
dosing = good[good.labels("state") == "dosing"]
print(f"{len(frames)} status frames, {len(good)} good, {len(dosing)} while dosing")
for name in ("flow", "pressure", "temperature", "dosed"):
    column = dosing[name]
    unit = frames.layout.unit[name]
    print(f"{name:12} {column.min():8.2f} to {column.max():8.2f} {unit}")

table = dosing.to_pandas()
print(table[["begin_s", "count", "flow", "state", "valve[0]"]].head(3).round(3).to_string(index=False))

picture = lr.new_figure()
lr.draw_fields(frames, ["flow", "pressure", "state"], ax=picture.add_subplot())
picture.savefig("telemetry.png")
print("drawn into telemetry.png: a cross a frame that cannot be trusted, a ring a value out of range")
