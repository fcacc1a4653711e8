"""Settings, layouts and checksums that are not declared, found from what was measured.

It may use `findings` and `measure`.
"""
