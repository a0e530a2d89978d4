"""The settings, a page for each topic."""
