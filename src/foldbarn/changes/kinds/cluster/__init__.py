"""The cluster: who belongs to it, and who decides."""
