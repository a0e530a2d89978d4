"""The shelf: what the loops of a folder sound like, found out once and asked for."""
