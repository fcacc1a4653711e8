"""Ports: the only device access, behind one small interface."""
