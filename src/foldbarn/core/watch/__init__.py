"""What the watch makes of it all."""
