"""Kinds of change: hosts, and which volumes are attached to them."""
