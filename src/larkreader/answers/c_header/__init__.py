"""C headers of firmware: structs and tables of bit fields, with where each of their members lies.

It may use what is declared. A header is read as text, with a parser; nothing of it is compiled or run.
"""
