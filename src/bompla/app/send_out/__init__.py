"""Send out: the last stage."""
