"""The demo set: a made-up band, its patterns, its drum synthesis and its files."""
