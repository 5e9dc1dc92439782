"""Previewing and carrying out changes, whatever their kind: plans, steps, turns, strips on their way."""
