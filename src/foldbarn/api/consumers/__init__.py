"""Consumers: orchestrators, and what their namespaces have."""
