"""A labelled corpus of drum loops, made by script and the same for the same seed."""

RATE = 44_100
"""Samples a second of all that is made here."""
