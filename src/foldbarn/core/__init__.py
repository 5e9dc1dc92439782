"""Rules and computation.

Belongs here: anything that can be worked out from facts passed in. Does not belong here: I/O, clocks,
global state, randomness without a seed, other layers. Imports the standard library and numpy only.
Sizes are whole bytes unless a name says otherwise.
"""
