"""Importing this registers every kind of change."""

from foldbarn.changes import create_volume, form_pool, rebuild

__all__ = ["create_volume", "form_pool", "rebuild"]
