"""The window: stages, widgets, theme and jobs. Only this package imports Qt."""
