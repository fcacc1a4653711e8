"""Many small captures: how many a second with one process, two, and two workers of a Dask cluster; memory and store.

    python benchmarks/bench_batch.py [COUNT] [--dask]

Each capture is one second of the pump head's wire as levels (VCD, 20 frames, about 7,000 changes), or what the
firmware got of it (a recording). Ratios of one run mean something; the times are those of the machine.
"""

from __future__ import annotations

import os
import resource
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

import larkreader as lr
from larkreader.demo.campaign import make_runs, write_campaign

TURNS = 5


def captures_in(folder: Path, count: int) -> Path:
    """Write captures: those of the demo, again and again under other names, with hard links."""
    files = write_campaign(folder, make_runs())
    made = sorted(folder.rglob("*C-*"))
    runs = folder / "runs"
    runs.mkdir()
    for number in range(count):
        of = made[number % len(made)]
        os.link(of, runs / f"{number:07}-{of.name}")
    return files["sheet"]


def timed(sheet: Path, folder: Path, **options: object) -> tuple[float, int]:
    """Return how long reading took, and how large the store is."""
    with tempfile.TemporaryDirectory() as where:
        store = Path(where) / "kept.sqlite"
        began = time.perf_counter()
        with lr.read_many(sheet, folder / "runs", store=store, **options) as campaign:
            took = time.perf_counter() - began
            assert not campaign.verdict_counts["not-read"]
            return took, store.stat().st_size


def on_cluster(sheet: Path, folder: Path, workers: int) -> float:
    """Return how long so many workers of a Dask cluster on this machine take, once they have begun."""
    from distributed import Client, LocalCluster

    options = {"n_workers": workers, "threads_per_worker": 1, "processes": True, "dashboard_address": None}
    with LocalCluster(**options) as cluster, Client(cluster) as client:
        client.run(lr.read, str(sheet), str(next((folder / "runs").iterdir())))  # they import what they need
        return timed(sheet, folder, executor=client.get_executor())[0]


def main() -> None:
    counts = [int(item) for item in sys.argv[1:] if item.isdigit()]
    count = counts[0] if counts else 2000
    with tempfile.TemporaryDirectory() as where:
        folder = Path(where)
        sheet = captures_in(folder, count)
        turns = [(timed(sheet, folder, workers=1), timed(sheet, folder, workers=2)) for _ in range(TURNS)]
        alone, two = (median(turn[place][0] for turn in turns) for place in (0, 1))
        size = turns[0][0][1] / count
        print(f"{count:,} captures in this process: {alone:.1f} s, {count / alone:.0f} a second")
        print(f"the store has {size:.0f} bytes a capture")
        ratios = ", ".join(f"{one[0] / other[0]:.2f}" for one, other in turns)
        ratio = median(one[0] / other[0] for one, other in turns)
        print(f"two processes: {two:.1f} s, {ratio:.2f} times as fast ({ratios})")
        if "--dask" in sys.argv:
            one, two = (on_cluster(sheet, folder, workers) for workers in (1, 2))
            print(f"one Dask worker: {one:.1f} s; two: {two:.1f} s, {one / two:.2f} times as fast")
        most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"most memory of this process: {most:.0f} MB")


if __name__ == "__main__":
    main()
