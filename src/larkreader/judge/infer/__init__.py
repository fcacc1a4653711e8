"""Settings, layouts and checksums that nobody declared, found from what was measured.

It may use `findings` and `measure`.
"""
