"""Numbers without verdicts, from what was measured.

It may use `findings` for those that a number itself shows.
"""
