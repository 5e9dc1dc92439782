"""Hosts that use volumes, and how they come to them."""
