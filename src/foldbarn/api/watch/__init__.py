"""The barn as a whole."""
