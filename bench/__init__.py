"""Measurements and pictures: ./barn bench and ./barn shots."""
