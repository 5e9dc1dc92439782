"""Changes."""
