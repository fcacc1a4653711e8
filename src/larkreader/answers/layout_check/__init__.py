"""Layouts of a sheet beside the structs of firmware: what differs, and a layout from a struct.

It may use what is declared and C headers.
"""
