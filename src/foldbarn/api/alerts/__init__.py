"""Watch rules, alerts, and who is told."""
