"""Hearing attacks and drums: from the spectrum through the networks to what is struck when."""
