"""The stages of the work, one module each."""
