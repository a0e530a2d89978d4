"""Slices, pads and hits as tables: sorted, selected and edited by keys, with the selection of the pictures."""
