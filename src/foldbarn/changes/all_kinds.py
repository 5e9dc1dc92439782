"""Importing this registers every kind of change."""

from foldbarn.changes import addresses, arrange, clear_disk, cluster, create_volume, delete, describe, form_pool, grow_pool, purposes, rebuild

__all__ = ["addresses", "arrange", "clear_disk", "cluster", "create_volume", "delete", "describe", "form_pool", "grow_pool", "purposes", "rebuild"]
