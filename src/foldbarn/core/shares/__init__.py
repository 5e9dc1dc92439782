"""Shares: who may reach them, how full they may get, where they are served, and under which names."""
