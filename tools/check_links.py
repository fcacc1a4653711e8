#!/usr/bin/env python3
"""Follows every local link of the built documentation to its page and place: ``python tools/check_links.py HTML``."""

from __future__ import annotations

import re
import sys
from functools import cache
from pathlib import Path
from urllib.parse import unquote, urlsplit

LINK = re.compile(r'\b(?:href|src)="([^"]+)"')
PLACE = re.compile(r'\bid="([^"]+)"')


@cache
def places_of(page: Path) -> frozenset[str]:
    """Return the places of a page to which a link can lead."""
    return frozenset(PLACE.findall(page.read_text(encoding="utf-8")))


def broken(root: Path) -> list[str]:
    """Return the links of the pages below a folder that lead nowhere."""
    found = []
    for page in sorted(root.rglob("*.html")):
        for link in LINK.findall(page.read_text(encoding="utf-8")):
            parts = urlsplit(link)
            if parts.scheme or parts.netloc:
                continue
            target = (page.parent / unquote(parts.path)).resolve() if parts.path else page
            place = unquote(parts.fragment)
            is_there = target.exists() and (not place or target.suffix != ".html" or place in places_of(target))
            if not is_there:
                found.append(f"{page.relative_to(root)}: {link}")
    return found


if __name__ == "__main__":
    wrong = broken(Path(sys.argv[1]))
    print("\n".join(wrong) or "all local links lead somewhere")
    sys.exit(bool(wrong))
