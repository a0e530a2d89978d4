"""Widgets that know nothing of a project."""
