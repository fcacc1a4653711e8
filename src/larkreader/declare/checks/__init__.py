"""Check values as they are declared: CRCs with their catalogue, sums.

It may use `common`.
"""
