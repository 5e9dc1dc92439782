"""Pools: room, protection, roles, and what they come to."""
