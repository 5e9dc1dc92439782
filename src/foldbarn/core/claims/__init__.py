"""Claims of a container orchestrator (Kubernetes API): what they ask for, whether they may have it, and what
becomes of the volumes that are made for them.
"""
