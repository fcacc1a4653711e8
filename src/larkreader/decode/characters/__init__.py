"""From levels to characters, whole and piece by piece.

It uses no other room.
"""
