"""The cluster."""
