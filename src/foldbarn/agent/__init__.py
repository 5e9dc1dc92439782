"""The reporting half of the agent protocol for a real Linux machine. Imports core only; it is reached over
the wire.
"""
