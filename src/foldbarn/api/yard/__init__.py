"""The yard's levers."""
