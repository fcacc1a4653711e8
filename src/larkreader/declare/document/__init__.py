"""The sheet as a whole: its model, loader, writer, schema and starter.

It may use every other room of `declare`.
"""
