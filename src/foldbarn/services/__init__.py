"""Use cases: load, call the core, store, announce."""
