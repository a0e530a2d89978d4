"""Regions: how well a loop's end meets its start, and which bars are worth looping."""
