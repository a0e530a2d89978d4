"""Slice: the second stage."""
