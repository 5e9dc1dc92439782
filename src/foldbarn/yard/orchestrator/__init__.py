"""The stand-in orchestrator: the objects of the Kubernetes REST API that have to do with storage, and the
loops that live on them, small enough to read. Any client of that API drives it.
"""
