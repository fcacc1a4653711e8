"""All of a wire judged together: how it began, what is wrong, what was proven, whether its settings are right.

It may use every other room of `judge`.
"""
