"""Pools."""
