"""Feed damaged input to everything that reads files and texts: `python tools/fuzz.py NAME --count 1000000`.

Without NAME every entry point of `tests/hostile.py` is tried. What gives another error than `LarkReaderError`, or takes
more than a limit of time or of memory, is kept in a folder with its traceback. With `--guided` the inputs are chosen by
the coverage-guided fuzzer atheris (`pip install atheris`), otherwise at random.
"""

from __future__ import annotations

import argparse
import hashlib
import random
import resource
import sys
import tempfile
import time
import traceback
import tracemalloc
import warnings
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))

if "--guided" in sys.argv:
    import atheris  # type: ignore[import-not-found]  # a tool of its own

    with atheris.instrument_imports(include=["larkreader"]):
        from hostile import Entry, attempt, damaged, entries, repacked
else:
    from hostile import Entry, attempt, damaged, entries, repacked

import hostile  # as it is set up here

MEMORY_TIMES, MEMORY_MORE = 20, 50_000_000  # of the input, and bytes more
LIMIT_S = 2.0
MEASURED_EVERY = 50  # inputs, of which one is read with its memory measured


def main() -> int:
    """Run the fuzzer; return 1 if anything was found."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("names", nargs="*", metavar="NAME")
    parser.add_argument("--count", type=int, default=10_000, help="inputs for each")
    parser.add_argument("--seconds", type=float, default=1e9, help="time for each")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--keep", type=Path, default=Path("fuzz-found"), help="folder for what is found")
    parser.add_argument("--diagnosed", type=int, default=hostile.DIAGNOSED, help="one in so many captures is diagnosed")
    parser.add_argument("--guided", action="store_true", help="choose inputs by coverage, with atheris")
    given = parser.parse_args()
    hostile.DIAGNOSED = given.diagnosed
    warnings.simplefilter("error")
    resource.setrlimit(resource.RLIMIT_AS, (8 << 30, 8 << 30))
    known = entries()
    chosen = given.names or list(known)
    found = 0
    for name in chosen:
        found += run(known[name], given) if not given.guided else guided(known[name], given)
    return 1 if found else 0


def run(entry: Entry, given: argparse.Namespace) -> int:
    """Try random damage to the samples of an entry; return how many different mistakes were found."""
    generator = random.Random(f"{entry.name} {given.seed}")
    mistakes: Counter[str] = Counter()
    began = time.monotonic()
    sound = slowest = count = 0
    most = 0
    with tempfile.TemporaryDirectory() as folder:
        for count in range(1, given.count + 1):
            data = damaged(generator, entry)
            if entry.samples[0].startswith(b"PK") and generator.random() < 0.5:
                data = repacked(generator.choice(entry.samples), generator)
            measured = count % MEASURED_EVERY == 0
            if measured:
                tracemalloc.start()
            at = time.process_time()
            mistake = why = ""
            try:
                sound += attempt(entry, data, Path(folder))
            except KeyboardInterrupt:
                raise
            except BaseException as error:
                where = traceback.extract_tb(error.__traceback__)[-1]
                mistake = f"{type(error).__name__} in {Path(where.filename).name}:{where.lineno}"
                why = traceback.format_exc()
            took = time.process_time() - at
            if measured:
                peak = tracemalloc.get_traced_memory()[1]
                tracemalloc.stop()
                most = max(most, peak)
                if peak > MEMORY_TIMES * len(data) + MEMORY_MORE:
                    mistake = mistake or f"{peak >> 20} MB for {len(data)} bytes"
            else:
                slowest = max(slowest, took)
                if took > LIMIT_S:
                    mistake = mistake or "slow"
            if mistake:
                if mistake not in mistakes:
                    keep(given.keep, entry, data, why or f"{mistake}: {took:.1f} s")
                mistakes[mistake] += 1
            if time.monotonic() - began > given.seconds:
                break
    rate = count / (time.monotonic() - began)
    cost = f"slowest {slowest:.2f} s, most {most >> 20} MB, {rate:,.0f} a second"
    result = dict(mistakes) or "nothing found"
    print(f"{entry.name:24} {count:9,} inputs, {sound / count:4.0%} sound, {cost}: {result}", flush=True)
    return len(mistakes)


def guided(entry: Entry, given: argparse.Namespace) -> int:
    """Let atheris choose the inputs; it ends the process at the first mistake, and keeps the input."""
    given.keep.mkdir(parents=True, exist_ok=True)
    corpus = Path(tempfile.mkdtemp())
    for number, sample in enumerate(entry.samples):
        (corpus / str(number)).write_bytes(sample)
    folder = Path(tempfile.mkdtemp())
    options = [
        f"-runs={given.count}",
        f"-max_total_time={int(min(given.seconds, 1e8))}",
        f"-artifact_prefix={given.keep}/",
    ]
    atheris.Setup(
        [sys.argv[0], *options, "-max_len=4096", str(corpus)], lambda data: attempt(entry, data, folder) and None
    )
    atheris.Fuzz()
    return 0


def keep(into: Path, entry: Entry, data: bytes, why: str) -> None:
    """Keep an input that shows a mistake, with what happened."""
    into.mkdir(parents=True, exist_ok=True)
    name = f"{entry.name.replace(' ', '-')}-{hashlib.sha256(data).hexdigest()[:12]}"
    (into / name).write_bytes(data)
    (into / f"{name}.txt").write_text(why)


if __name__ == "__main__":
    sys.exit(main())
