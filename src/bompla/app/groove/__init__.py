"""Groove: the fourth stage."""
