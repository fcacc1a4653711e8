"""A capture judged as it arrives: its stretches, where they are cut, and what they show altogether.

It may use every other room of `judge`.
"""
