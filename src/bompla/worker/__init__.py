"""The process that analyses for the window, and what is said between the two."""
