"""What is played: the transport, baking, previews and recording."""
