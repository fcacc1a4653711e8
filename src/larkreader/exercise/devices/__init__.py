"""Devices at the far end of a line: those that answer, those that speak unasked. It may use the payload."""
