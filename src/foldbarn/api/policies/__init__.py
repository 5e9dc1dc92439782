"""Policies in the API."""
