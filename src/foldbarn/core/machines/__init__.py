"""Machines: what nodes report, where they stand, how they are connected."""
