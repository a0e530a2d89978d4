"""Real-time playing: the mixer, its process, its devices and their stand-ins."""
