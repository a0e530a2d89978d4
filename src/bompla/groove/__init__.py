"""Computation on patterns alone: comparison with truth, grids and statistics."""
