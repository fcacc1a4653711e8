"""How often verdicts are right: random links with known events, by family.

``python tally_verdicts.py [cases] [first]``; the tests judge the first of them.
"""

import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from itertools import islice
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from random_links import judge, make_case

HEADS = ("family", "cases", "events", "found", "recall", "false alarms", "wrong causes", "false clean")


def judged(number):
    """Return what a case was, and how it was judged."""
    case = make_case(number)
    try:
        found = judge(case)
    except Exception as error:
        return number, case.family, case.events, len(case.must), ["crash: " + repr(error)[:90]], [], [], False
    return (
        number,
        case.family,
        case.events,
        len(case.must),
        found.missed,
        found.false_alarms,
        found.wrong_causes,
        found.is_false_clean,
    )


def main(count=10_000, first=0):
    """Judge so many cases, and print the table and what went wrong."""
    tally, wrong = {}, []
    with ProcessPoolExecutor() as pool:
        for row in pool.map(judged, range(first, first + count), chunksize=50):
            number, family, events, musts, missed, alarms, causes, is_clean = row
            for key in (family, "all"):
                one = tally.setdefault(key, Counter())
                one.update(
                    cases=1,
                    events=musts,
                    found=musts - len(missed),
                    alarms=bool(alarms),
                    causes=bool(causes),
                    clean=is_clean,
                )
            if missed or alarms or causes or is_clean:
                wrong.append(row)
    print(f"| {' | '.join(HEADS)} |\n|{'---|' * len(HEADS)}")
    for key, one in sorted(tally.items(), key=lambda item: (item[0] == "all", item[0])):
        recall = f"{100 * one['found'] / one['events']:.2f} %" if one["events"] else "-"
        cells = (key, one["cases"], one["events"], one["found"], recall, one["alarms"], one["causes"], one["clean"])
        print(f"| {' | '.join(map(str, cells))} |")
    for number, family, events, _, missed, alarms, causes, is_clean in islice(wrong, 40):
        print(number, family, events, "missed", missed, "alarms", alarms, "causes", causes, "false clean" * is_clean)
    print(f"{len(wrong)} of {count} cases are not fully right")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
