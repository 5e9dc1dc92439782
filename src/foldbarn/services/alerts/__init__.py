"""Watch rules, what they find, and telling of it."""
