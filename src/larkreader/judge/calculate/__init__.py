"""Numbers from what was declared: divisors, margins, load.

It may use `findings`.
"""
