"""What the window works on: sounds with their documents, what is asked of workers, what is selected."""
