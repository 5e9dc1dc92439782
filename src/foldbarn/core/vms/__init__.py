"""Virtual machines: what they are described as, and the volumes that one is."""
