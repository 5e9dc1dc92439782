"""Schemes as steps keep them."""

from __future__ import annotations

from foldbarn.changes.engine.step import Payload
from foldbarn.core.pools.protection import Level, Scheme


class SchemeAt(Payload):
    """A scheme as a step keeps it."""

    k: int
    m: int
    level: Level
    per_domain: int = 1

    @classmethod
    def of(cls, scheme: Scheme) -> SchemeAt:
        return cls(k=scheme.k, m=scheme.m, level=scheme.level, per_domain=scheme.per_domain)

    def scheme(self) -> Scheme:
        return Scheme(self.k, self.m, self.level, self.per_domain)
