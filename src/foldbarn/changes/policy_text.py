"""A policy as text: YAML with what it says, read with the line of every error, written without loss."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator

from foldbarn.changes.kinds.policies.save_policy import SavePolicyParams
from foldbarn.changes.text import Text, read_as, sized, written
from foldbarn.core.policies.policy import Cache
from foldbarn.core.pools.protection import Level


class PolicyText(Text):
    """A policy; of what is left out, what a new policy begins with. Its throughput, and what comes first on
    the fast tier, are sizes such as "200 MB", or plain numbers of bytes.
    """

    policy: str = Field(min_length=1, max_length=80)
    meant_for: str = Field(default="", alias="meant for", max_length=200)
    draft: bool = False
    copies: int | None = None
    data: int | None = None
    parity: int | None = None
    spread: Literal["room", "rack", "node", "disk"] = "node"
    per_domain: int = Field(default=1, alias="strips in one", ge=1)
    survives: int | None = None
    fast: bool = False
    share: int = 0
    first: int = Field(default=0, alias="first on fast")
    share_copies: int | None = Field(default=None, alias="copies of the share")
    landing: int = 0
    encrypted: bool = False
    compressed: bool = False
    thin: bool = False
    hourly: int = Field(default=0, alias="snapshots of hours")
    daily: int = Field(default=0, alias="snapshots of days")
    weekly: int = Field(default=0, alias="snapshots of weeks")
    snapshot_room: int | None = Field(default=None, alias="room for snapshots")
    cache: Literal["any", "none", "read", "write-back", "memory"] = "any"
    memory: int = Field(default=0, alias="share of memory")
    labels: list[str] = Field(default_factory=list, max_length=200)
    operations: int | None = None
    throughput: int | None = None

    @field_validator("throughput", "first", mode="before")
    @classmethod
    def _size(cls, value: Any) -> Any:
        return None if value is None else sized(value)


def read_policy(text: str, versions: dict[str, int]) -> SavePolicyParams:
    """What a text wishes for. versions: the newest version of each policy there is, by name, upon which one
    of that name is written. Raises BadText, NotPossible.
    """
    found = read_as(PolicyText, text, "A policy's text begins with 'policy:' and its name.")
    said = found.model_dump(exclude={"policy", "spread", "cache"})
    return SavePolicyParams(
        name=found.policy,
        version=versions.get(found.policy, 0),
        level=Level(found.spread),
        cache=Cache(found.cache),
        **said,
    )


def write_policy(params: SavePolicyParams) -> str:
    """The text of what is wished for; reading it gives the same wishes again."""
    said = params.model_dump(exclude={"name", "version", "level", "cache"})
    # As it is, sensible or not: whether it can be is for the preview to say.
    found = PolicyText.model_construct(
        policy=params.name, spread=params.level.value, cache=params.cache.value, **said
    )
    return written(found)
