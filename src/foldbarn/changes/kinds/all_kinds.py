"""Importing this registers every kind of change, whatever module of this package it stands in."""

import importlib
import pkgutil

from foldbarn.changes import kinds

for module in pkgutil.walk_packages(kinds.__path__, f"{kinds.__name__}."):
    if not module.ispkg:
        importlib.import_module(module.name)
