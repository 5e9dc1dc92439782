"""Virtual machines: what they are described as, the volumes that one is, and where it is switched on."""
