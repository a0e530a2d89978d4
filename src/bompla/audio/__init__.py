"""Sound as values: reading, writing, resampling, loudness and summaries for drawing."""
