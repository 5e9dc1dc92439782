"""What a policy says: a named, versioned set of wishes that a volume keeps."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.errors import NotPossible
from foldbarn.core.names import labels_of
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.units import say_binary, say_count, say_list, say_size
from foldbarn.core.volumes.schedules import NO_SCHEDULE, Schedule

MOST_DATA = 16  # strips of data in a stripe: more take longer to read than they save room
MOST_PARITY = 4  # strips of parity
MOST_LANDING = 50  # per cent of a volume
MOST_LIMIT = 10**13  # operations, or bytes, a second
MOST_SHARE = 90  # the same, of what may lie on the fast tier for its heat
MOST_FIRST = 1 << 50  # bytes of a volume that lie on the fast tier outright
MOST_MEMORY = 25  # per cent of a node's memory, for what one policy's volumes keep there


class Cache(StrEnum):
    """What cache devices do for a volume. any: what its pool's do, if it has some; none: nothing, both reads
    and writes go to the disks; read: what is read stays there, and writes go to the disks at once;
    write-back: writes wait there too. memory: they do nothing, and what is read most stays in the memory of
    the nodes that hold it.
    """

    ANY = "any"
    NONE = "none"
    READ = "read"
    WRITE_BACK = "write-back"
    MEMORY = "memory"


@dataclass(frozen=True, slots=True)
class Wishes:
    """What each volume of a policy is promised.

    survives: losses at the scheme's level that must leave all of its data readable. fast: its data lies on
    the fast tier of its pool. encrypted: only on disks that hold everything encrypted; compressed: only on
    disks that compress what they hold. landing: per cent of the volume for an area on the fast tier that
    takes what is written first; 0 for none. share: per cent of it that may lie on the fast tier instead, what
    is asked for most; 0 for none. first: bytes of it, from its begin, that lie there outright, the rest on
    the bulk tier; 0 for none. share_copies: of either there; 0 for as many as survive what the scheme does.
    labels: that its pool has. operations, throughput: what consumers may ask of it in a second, in operations
    and in bytes; 0 for no limit. cache: what cache devices do for it. memory: per cent of a node's memory
    that all its volumes together may take there; 0 for none. thin: room for an extent is set aside when it is
    about to be written.
    """

    scheme: Scheme
    survives: int
    fast: bool = False
    encrypted: bool = False
    landing: int = 0
    share: int = 0
    labels: tuple[str, ...] = ()
    operations: int = 0
    throughput: int = 0
    cache: Cache = Cache.ANY
    thin: bool = False
    share_copies: int = 0
    schedule: Schedule = NO_SCHEDULE  # of snapshots
    memory: int = 0
    compressed: bool = False
    first: int = 0

    @property
    def landing_scheme(self) -> Scheme | None:
        """How what lands is held; None where nothing does."""
        return self._copies_on_fast if self.landing else None

    @property
    def hot_scheme(self) -> Scheme | None:
        """How the part on the fast tier is held, for its heat or outright; None where there is none."""
        if not self.in_two_tiers:
            return None
        if self.share_copies:
            return mirror(self.share_copies, self.scheme.level, self.scheme.per_domain)
        return self._copies_on_fast

    @property
    def in_two_tiers(self) -> bool:
        """Whether some of it lies on the fast tier and the rest on the bulk tier."""
        return bool(self.share or self.first)

    @property
    def _copies_on_fast(self) -> Scheme:
        """Copies that survive as many losses as the scheme does: m + 1, kept apart alike (common
        practice).
        """
        return mirror(self.scheme.m + 1, self.scheme.level, self.scheme.per_domain)

    def sentence(self) -> str:
        """The promise, whole."""
        where = " On the fast tier." if self.fast else ""
        sealed = " Encrypted on every disk." if self.encrypted else ""
        sealed += " Compressed on every disk." if self.compressed else ""
        protection = self.scheme.sentence()
        lands = ""
        if landing := self.landing_scheme:
            lands = f" Lands as {landing.counted()} on the fast tier first, in {self.landing} % of its size."
        labelled = f" Only in a pool with the {_labels(self.labels)}." if self.labels else ""
        hot = ""
        copies = self.hot_scheme
        if copies and self.first:
            hot = f" Its first {say_binary(self.first)} lie on the fast tier as {copies.counted()}, the rest "
            hot += "on the bulk tier."
        elif copies:
            hot = f" Up to {self.share} % of it, what is asked for most, lies on the fast tier"
            hot += f" as {copies.counted()}."
        cached = _CACHES[self.cache]
        if self.memory:
            cached += f", in up to {self.memory} % of it."
        said = f"{protection[0].upper()}{protection[1:]}.{where}{lands}{hot}{cached}"
        thin = " Takes room as it is written." if self.thin else ""
        return f"{said}{sealed}{labelled}{_limits(self)}{thin}{self.schedule.sentence()}"


def most_survived(scheme: Scheme, hot: Scheme | None) -> int:
    """Losses at the scheme's level that all of it, wherever it lies, survives; hot: how what lies on the fast
    tier beside it is held.
    """
    return scheme.survives if hot is None else min(scheme.survives, hot.survives)


_CACHES = {
    Cache.ANY: "",
    Cache.NONE: " Past any cache.",
    Cache.READ: " What is read is cached.",
    Cache.WRITE_BACK: " What is written waits on cache devices, and what is read is cached.",
    Cache.MEMORY: " What is read most stays in its nodes' memory",
}


def _limits(wishes: Wishes) -> str:
    most = [f"{wishes.operations:,} operations"] if wishes.operations else []
    most += [say_size(wishes.throughput)] if wishes.throughput else []
    return f" At most {say_list(most)} a second." if most else ""


def _labels(labels: Sequence[str]) -> str:
    return f"label {labels[0]}" if len(labels) == 1 else f"labels {say_list(list(labels))}"


@dataclass(frozen=True, slots=True)
class Policy:
    """One version of a policy. number: of the policy; current: whether it is the newest version, which new
    volumes get. draft: whether it is written down only, and no volume may keep it yet.
    """

    number: int
    name: str
    version: int
    wishes: Wishes
    meant_for: str = ""
    current: bool = True
    draft: bool = False


def against_draft(policy: Policy) -> NotPossible | None:
    """Why no volume may keep a policy that is a draft; None for any other."""
    if not policy.draft:
        return None
    return NotPossible(
        f"{policy.name} is a draft: no volume keeps it yet.",
        about="policy",
        next_step="Change it, and save it as more than a draft once a pool can keep it.",
    )


def scheme_wished(
    copies: int | None, data: int | None, parity: int | None, level: Level, per_domain: int = 1
) -> Scheme:
    """The scheme of either so many copies or so many strips of data and of parity. per_domain: strips of an
    extent that may lie in one domain.

    Raises NotPossible where it is neither or both, or a number is out of bounds.
    """
    scheme = _scheme(copies, data, parity, level, per_domain)
    if per_domain > scheme.strips:
        raise NotPossible(
            f"An extent of {scheme.counted()} has {say_count(scheme.strips, 'strip')}: {per_domain} of them "
            f"are never in one {level.value}.",
            about="per_domain",
            next_step=f"Wish for at most {scheme.strips}.",
        )
    return scheme


def _scheme(
    copies: int | None, data: int | None, parity: int | None, level: Level, per_domain: int
) -> Scheme:
    if (copies is None) == (data is None and parity is None):
        raise NotPossible(
            "A policy protects by copies or by parity.",
            about="copies",
            next_step="Say how many copies, or how many strips of data and of parity.",
        )
    if copies is not None:
        return mirror(copies, level, per_domain)
    if data is None or not 2 <= data <= MOST_DATA:
        raise NotPossible(
            f"A stripe has between 2 and {MOST_DATA} strips of data, not {0 if data is None else data}.",
            about="data",
            next_step="For one strip of data, wish for copies." if data == 1 else None,
        )
    if parity is None or not 1 <= parity <= MOST_PARITY:
        raise NotPossible(
            f"A stripe has between 1 and {MOST_PARITY} strips of parity, not {parity or 0}.", about="parity"
        )
    return Scheme(data, parity, level, per_domain)


def wishes_of(
    scheme: Scheme,
    survives: int | None = None,
    fast: bool = False,
    encrypted: bool = False,
    landing: int = 0,
    share: int = 0,
    labels: Iterable[str] = (),
    operations: int | None = None,
    throughput: int | None = None,
    cache: Cache = Cache.ANY,
    *,
    thin: bool = False,
    share_copies: int | None = None,
    schedule: Schedule = NO_SCHEDULE,
    memory: int = 0,
    compressed: bool = False,
    first: int = 0,
) -> Wishes:
    """Wishes that do not contradict one another. survives: all that the scheme, and what is held of it on the
    fast tier, survives when None; operations, throughput: no limit when None; share_copies: as many as
    survive what the scheme does when None. Raises NotPossible.
    """
    _check_landing(scheme, fast, landing)
    _check_share(fast, landing, share)
    _check_first(first, fast, landing, share, thin)
    hot = _hot(scheme, share or first, share_copies)
    wanted = most_survived(scheme, hot) if survives is None else survives
    if hot is not None and hot.survives < wanted <= scheme.survives:
        level = scheme.level.value
        survive = "survives" if hot.strips == 1 else "survive"
        raise NotPossible(
            f"It is to survive the loss of {say_count(wanted, level)}, and on the fast tier {hot.counted()} "
            f"{survive} {say_count(hot.survives, level)}.",
            about="share_copies",
            next_step=f"Wish for at least {wanted * hot.per_domain + 1} copies there, or for fewer losses.",
        )
    if wanted < 0:
        raise NotPossible("The number of losses to survive is not negative.", about="survives")
    if wanted > scheme.survives:
        level = scheme.level.value
        raise NotPossible(
            f"It is to survive the loss of {say_count(wanted, level)}, and {scheme.counted()} "
            f"{'survives' if scheme.strips == 1 else 'survive'} {say_count(scheme.survives, level)}.",
            about="survives",
            next_step=_to_survive(scheme, wanted),
        )
    check_limit("operations", operations)
    check_limit("throughput", throughput)
    _check_memory(cache, memory)
    return Wishes(
        scheme=scheme,
        survives=wanted,
        fast=fast,
        encrypted=encrypted,
        landing=landing,
        share=share,
        labels=labels_of(labels),
        operations=operations or 0,
        throughput=throughput or 0,
        cache=cache,
        thin=thin,
        share_copies=share_copies or 0,
        schedule=schedule,
        memory=memory,
        compressed=compressed,
        first=first,
    )


def _hot(scheme: Scheme, there: int, copies: int | None) -> Scheme | None:
    """How so many copies on the fast tier are kept; None where their number follows from the scheme. Raises
    NotPossible.
    """
    if copies is None:
        return None
    if not there:
        raise NotPossible(
            "Copies on the fast tier are of the share that lies there, and there is none.",
            about="share_copies",
            next_step="Leave them out, or wish for a share, or for its first bytes there.",
        )
    return mirror(copies, scheme.level, scheme.per_domain)


def _check_memory(cache: Cache, memory: int) -> None:
    """Raises NotPossible."""
    if cache != Cache.MEMORY:
        if memory:
            raise NotPossible(
                "A part of nodes' memory is for what is cached there, and that is not wished for.",
                about="memory",
                next_step="Leave it out, or wish for a cache in memory.",
            )
        return
    if not 1 <= memory <= MOST_MEMORY:
        words = (
            f"Between 1 and {MOST_MEMORY} % of a node's memory may cache a policy's volumes, not {memory} %."
        )
        raise NotPossible(words, about="memory")


def _check_landing(scheme: Scheme, fast: bool, landing: int) -> None:
    """Raises NotPossible."""
    if not 0 <= landing <= MOST_LANDING:
        raise NotPossible(
            f"A landing has between 1 and {MOST_LANDING} % of a volume, not {landing} %.", about="landing"
        )
    if landing and scheme.is_mirror:
        raise NotPossible(
            "Copies are written as they come: only parity gains by a landing.",
            about="landing",
            next_step="Leave the landing out, or protect by parity.",
        )
    if landing and fast:
        raise NotPossible(
            "All of it lies on the fast tier already, where its landing would be.",
            about="landing",
            next_step="Leave the landing out, or the fast tier.",
        )


def _check_share(fast: bool, landing: int, share: int) -> None:
    """Raises NotPossible."""
    if not 0 <= share <= MOST_SHARE:
        raise NotPossible(
            f"Between 1 and {MOST_SHARE} % of a volume may lie on the fast tier for its heat, not {share} %.",
            about="share",
            next_step="For all of it, wish for the fast tier." if share > MOST_SHARE else None,
        )
    if share and fast:
        raise NotPossible(
            "All of it lies on the fast tier already, however often it is asked for.",
            about="share",
            next_step="Leave the share out, or the fast tier.",
        )
    if share and landing:
        raise NotPossible(
            "What is asked for most is written where it lies, on the fast tier: it does not land first.",
            about="share",
            next_step="Leave the share out, or the landing.",
        )


def _check_first(first: int, fast: bool, landing: int, share: int, thin: bool) -> None:
    """Raises NotPossible."""
    if not 0 <= first <= MOST_FIRST:
        words = f"Between 1 byte and {say_binary(MOST_FIRST)} of a volume may lie on the fast tier outright."
        raise NotPossible(words, about="first")
    if not first:
        return
    if fast:
        raise NotPossible(
            "All of it lies on the fast tier already.",
            about="first",
            next_step="Leave its first bytes out, or the fast tier.",
        )
    if share:
        raise NotPossible(
            "What lies on the fast tier is there for its heat, or because it comes first: not both.",
            about="first",
            next_step="Leave the share out, or its first bytes.",
        )
    if landing:
        raise NotPossible(
            "What lies on the fast tier outright is written where it lies: it does not land first.",
            about="first",
            next_step="Leave its first bytes out, or the landing.",
        )
    if thin:
        raise NotPossible(
            "What lies on the fast tier outright is set aside whole, and takes no room as it is written.",
            about="first",
            next_step="Leave its first bytes out, or let it be set aside whole.",
        )


UNITS = {"operations": "operations a second", "throughput": "bytes a second"}  # of limits


def check_limit(about: str, limit: int | None) -> None:
    """about: operations or throughput. Raises NotPossible."""
    unit = UNITS[about]
    if limit is not None and not 1 <= limit <= MOST_LIMIT:
        words = f"A limit is between 1 and {MOST_LIMIT:,} {unit}, not {limit:,}."
        raise NotPossible(words, about=about, next_step="Leave it out for no limit.")


def _to_survive(scheme: Scheme, wanted: int) -> str:
    """What would make a scheme survive so many losses."""
    more = wanted * scheme.per_domain
    step = (
        f"Wish for at least {more + 1} copies" if scheme.is_mirror else f"Wish for at least {more} of parity"
    )
    if scheme.per_domain == 1:
        return f"{step}."
    fewer = scheme.m // max(wanted, 1)
    level = scheme.level.value
    return f"{step}, or for at most {fewer} in one {level}." if fewer else f"{step}."
