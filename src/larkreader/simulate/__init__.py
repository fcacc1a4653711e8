"""What becomes of characters in buffers, services and programs, played without hardware or a clock.

It may use `decode` and what is before it.
"""
