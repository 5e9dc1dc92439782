"""Machines."""
