"""Bompla turns a drum loop into slices, a kit and an editable MIDI drum pattern."""

__version__ = "0.1.0"
