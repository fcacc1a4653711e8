"""What is wrong with a setup that has not been switched on yet? Two tries at the rig, from their sheets alone."""

from pathlib import Path

import larkreader as lr

PLANS = Path(__file__).parent / "plans"

for name in ("clock_and_format", "wiring_and_order"):
    planned = lr.plan(lr.open_sheet(PLANS / f"{name}.toml"))
    print(f"{planned.sheet.title}: {planned.verdict}")
    for finding in planned.findings:
        print(f"  {finding.severity} {finding.kind}: {finding.text.partition('. ')[0]}.")
        print(f"      {finding.advice}")
    print()

clock = lr.Clock(hertz=8_000_000, accuracy="1 %")
generator = lr.BaudGenerator(holds="N-1", divisor_bits=12, oversampling=[16, 8])
print("What 8 MHz makes of 115200 baud, divided by whole numbers:")
for setting in lr.find_divisors(115_200, clock, generator):
    register = setting.registers["divisor"]
    print(f"  {setting.oversampling:2} times: write {register}: {setting.baud:,.0f} baud, {100 * setting.error:+.2f} %")
hits = ", ".join(f"{setting.wanted:,.0f}" for setting in lr.calculate_bauds(clock, generator, within=0.005))
print(f"It makes well: {hits}")
