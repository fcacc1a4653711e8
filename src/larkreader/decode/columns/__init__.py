"""From frames to columns: where each field lies, and what it holds.

It uses no other room.
"""
