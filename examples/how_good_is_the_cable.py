"""How good is the cable? Loopbacks over bauds, both ways between two ports, and what single errors do."""

import contextlib
from collections.abc import Iterator, Sequence

import larkreader as lr

LINE = lr.LineSettings.parse("57600 8E1")
CABLE = lr.Impairments(jitter_s=6e-7, far_ppm=15_000)  # what the simulated one does to each level change


@contextlib.contextmanager
def cable(line: lr.LineSettings) -> Iterator[Sequence[lr.Port]]:
    """Give a port with a loopback plug at the far end of the cable."""
    yield [lr.SimulatedPort(line, lambda data: data, impairments=CABLE)]


matrix = lr.LoopbackMatrix(patterns=("prbs-15",), bauds=(57_600, 115_200, 230_400), characters=10_000)
result = lr.run_matrix(cable, matrix, LINE)
for run in result.runs:
    low, high = run.error_interval
    print(f"{run.line}: {run.verdict}, {run.lost} lost, {run.changed} changed, error ratio {low:.1g} to {high:.1g}")
print("fastest that runs clean:", result.fastest)

print()
ends = lr.exercise.simulated_pair(LINE, impairments=lr.Impairments(drop_ratio=1e-3, double_ratio=5e-4, seed=2))
for way in lr.run_both_ways(*ends, lr.LoopbackPlan(characters=20_000, pattern="prbs-15")):
    print(f"{way.name}: {way.lost} lost, {way.changed} changed, {way.extra} extra, {way.doubled} of them doubled")


@contextlib.contextmanager
def far_end_as_declared(line: lr.LineSettings) -> Iterator[Sequence[lr.Port]]:
    """Give a port whose baud is varied, while the far end keeps its own."""
    yield [lr.SimulatedPort(line, lambda data: data, far=LINE, impairments=CABLE)]


print()
tolerance = lr.find_tolerance(far_end_as_declared, lr.LoopbackPlan(characters=1000, pattern="prbs-9"), LINE)
print(f"this end's clock may be {tolerance.slow_ppm / 1e4:+.1f} % to {tolerance.fast_ppm / 1e4:+.1f} % off")
