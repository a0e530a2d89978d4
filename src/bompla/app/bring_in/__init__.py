"""Bring in: the first stage."""
