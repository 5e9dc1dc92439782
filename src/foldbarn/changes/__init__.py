"""The change engine: one module per kind of change; preview, then steps, carried out by the runner on the
queue.
"""
