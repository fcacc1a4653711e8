"""What receives and sends at the ends, and what is wrong with a simulated line.

It may use `common` and `link`.
"""
