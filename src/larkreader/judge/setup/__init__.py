"""Findings about ends, registers, wiring, steps, and the paths on which characters are received and sent.

It may use `findings`, `infer`, `calculate` and the stage `simulate`.
"""
