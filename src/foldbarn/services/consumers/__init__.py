"""Looking after orchestrators: claims get their volumes, and what was granted appears there."""
