"""Is the struct in my firmware the frame on the sheet? A header that was written by hand, beside the rig."""

from pathlib import Path

from larkreader.answers import check_layouts, layout_of_struct, read_header
from larkreader.demo.rig import rig_sheet

HEADER = Path(__file__).parent / "firmware" / "hand_written.h"

sheet = rig_sheet()
header = read_header(HEADER, target="arm")
comparisons, _ = check_layouts(sheet, header)
for comparison in comparisons:
    print(f"{comparison.layout} and {comparison.struct}: {comparison.verdict}")
    for row in comparison.rows:
        for difference in row.differences:
            if not difference.follows:
                print(f"  {row.field}, {difference.kind}: sheet {difference.in_sheet}, C {difference.in_c}")
        if row.outcome in ("only in sheet", "only in C"):
            print(f"  {row.field or row.member or row.in_c}: {row.outcome}")
        if row.outcome == "not shown":
            print(f"  {row.field}: {row.unseen[0]}")

print()
print(layout_of_struct(header, "alarm"))
