"""What is run: ports, loopbacks, exchanges, pairings, the form of captures.

It may use `common`, `link` and `paths`.
"""
