"""Policies: what is asked and answered."""

from __future__ import annotations

from pydantic import BaseModel

from foldbarn.api.changes.models import ChangeLine
from foldbarn.changes.engine.effects import PoolAnswerRow
from foldbarn.changes.kinds.policies.save_policy import SavePolicyParams
from foldbarn.core.policies.conformance import Standing


class StandingOut(BaseModel):
    """How a volume stands to the version of the policy that it keeps."""

    policy: str
    version: int
    newest: int
    standing: Standing
    sentence: str


class UserOut(StandingOut):
    volume: str
    pool: str


class VersionOut(BaseModel):
    """What a policy said in one version, and how many volumes keep it."""

    version: int
    promise: str
    volumes: int


class PolicyOut(BaseModel):
    """A policy as it says now. counted: its strips in words; answers: what every pool says to it."""

    name: str
    version: int
    meant_for: str
    promise: str
    counted: str
    level: str
    survives: int
    fast: bool
    encrypted: bool
    volumes: dict[Standing, int]
    answers: list[PoolAnswerRow]


class PolicyPage(PolicyOut):
    """Everything told of one policy. params: what a new version of it begins with."""

    versions: list[VersionOut]
    users: list[UserOut]
    params: SavePolicyParams
    history: list[ChangeLine]
