"""The yard: stand-in servers that speak the agent protocol over the wire, and the levers to make them fail.

Imports only core, and nothing imports it: the rest of Fold Barn reaches it over HTTP like real nodes.
"""
