"""Reading tempo, meter and bars from attacks and drums."""
