"""What is heard in a clip: attacks, tempo, loop and drums; clips in, values out."""
