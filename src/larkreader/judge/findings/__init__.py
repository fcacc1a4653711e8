"""The vocabulary: what a finding is, its kinds, and how its sentences are made.

It uses no other room.
"""
