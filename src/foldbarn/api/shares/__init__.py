"""The file service and its shares: what is asked and answered."""
