"""Everything that leaves: one table of exports, over formats, render and the bounce."""
