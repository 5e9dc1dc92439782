"""Volumes."""
