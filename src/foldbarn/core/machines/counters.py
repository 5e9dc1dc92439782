"""Counters that only grow become rates."""

from __future__ import annotations


def rate(before: int, after: int, seconds: float) -> float | None:
    """Growth per second; None where the counter was reset (it fell) or no time has passed."""
    if seconds <= 0 or after < before:
        return None
    return (after - before) / seconds
