"""What many captures show together: what goes with which label, what differs from before, what moves, what is odd.

It takes numbers and counts of captures, and may use `findings` for the words of severity.
"""
