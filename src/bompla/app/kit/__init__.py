"""Kit: the third stage."""
