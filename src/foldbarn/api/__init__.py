"""HTTP: routes parse, call one service or the core, and shape the answer. Nothing is decided here."""
