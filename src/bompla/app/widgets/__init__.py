"""Widgets that draw and are drawn on."""
