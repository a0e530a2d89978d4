"""A labelled corpus of drum loops, made by script and the same for the same seed."""
