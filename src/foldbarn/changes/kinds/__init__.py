"""The kinds of change: what each does, step by step, and what its preview says."""
