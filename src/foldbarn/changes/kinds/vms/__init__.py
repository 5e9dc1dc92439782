"""Virtual machines: made, deleted and brought back as one thing."""
