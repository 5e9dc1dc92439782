"""Policies: what volumes are promised, which pools can keep it, and whether a volume keeps it now."""
