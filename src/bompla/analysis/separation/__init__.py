"""Pulling apart what sounds at once."""
