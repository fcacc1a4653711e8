"""What several declared models share: mistakes, lists that may be a single value, the order of bytes.

It uses no other room.
"""
