"""Findings about characters and frames of a wire, each kind by itself.

It may use `findings`, `measure` and `infer`.
"""
