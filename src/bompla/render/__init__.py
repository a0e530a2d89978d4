"""Values in, sound out: pad sounds and the rebuilt loop as event lists."""
