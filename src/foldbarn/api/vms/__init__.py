"""Virtual machines: what is asked and answered."""
