"""Many captures read against one sheet: which captures, who reads them, where the rows are kept, and what they show.

It may use the readings of `answers`.
"""
