"""Shared by the benchmarks: time several ways to do one thing, in turn, in one run."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from statistics import median


def compare(ways: Mapping[str, Callable[[], object]], *, rounds: int = 5) -> dict[str, float]:
    """Return the median CPU seconds of each way, the ways taking turns."""
    taken: dict[str, list[float]] = {name: [] for name in ways}
    for _ in range(rounds):
        for name, way in ways.items():
            begin = time.process_time()
            way()
            taken[name].append(time.process_time() - begin)
    return {name: median(times) for name, times in taken.items()}


def show(title: str, seconds: Mapping[str, float], units: Mapping[str, float], unit: str) -> None:
    """Print time an element of each way, and how much slower than the first the others are."""
    first = next(iter(seconds))
    base = seconds[first] / units[first]
    print(title)
    for name, value in seconds.items():
        each = value / units[name]
        ratio = "" if name == first else f"  {first} is {each / base:.2f} times as fast"
        print(f"  {name:<18} {each * 1e9:10.1f} ns a {unit}{ratio}")
