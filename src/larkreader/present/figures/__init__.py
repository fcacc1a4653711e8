"""Figures, one module each: functions that take results and an axes, and return the axes."""
