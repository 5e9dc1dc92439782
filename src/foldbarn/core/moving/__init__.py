"""Strips that move: what is to go where, and whether all lies where it should."""
