"""The line and its ends: settings, clocks, baud generators, registers, steps, wiring, event signals.

It may use `common`.
"""
