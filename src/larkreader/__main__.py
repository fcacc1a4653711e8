"""``python -m larkreader``: the command."""

from larkreader.cli import main

main()
