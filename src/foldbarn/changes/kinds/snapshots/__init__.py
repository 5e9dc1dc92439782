"""Kinds of change: snapshots of volumes."""
