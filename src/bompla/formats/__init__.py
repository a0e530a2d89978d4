"""One module for each file format."""
