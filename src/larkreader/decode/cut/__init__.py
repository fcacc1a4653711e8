"""From bytes to frames, whole and live: boundaries, delimiters, candidates.

It may use `columns` and `check`.
"""
