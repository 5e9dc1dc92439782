"""Volumes, and what losses do to them."""
