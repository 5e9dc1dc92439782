"""Policies, as a page shows them."""

from __future__ import annotations

import csv
import io
import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import asdict

from foldbarn.api.changes.pictures import change_line
from foldbarn.api.policies.models import (
    AdoptionOut,
    BenchIn,
    BenchOut,
    BenchRowOut,
    CloserOut,
    Compared,
    ComparedOut,
    LifeOut,
    LoadIn,
    MeasuredOut,
    OpposedOut,
    PaperIn,
    PolicyOut,
    PolicyPage,
    RemadeOut,
    SpeedOut,
    StandingOut,
    StandOut,
    UserOut,
    VersionOut,
    WorkOut,
)
from foldbarn.changes.kinds.policies.save_policy import SavePolicyParams, answers_effect
from foldbarn.changes.kinds.pools.effects import estimate_of
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.adopting import adopt
from foldbarn.core.policies.bench import BenchRow, Life, lay_side_by_side, schemes_at
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.policies.foretold import Foretold, Paces, foretold
from foldbarn.core.policies.matching import answers, hot_extents
from foldbarn.core.policies.performance import LEFT_OUT as SPEED_LEFT_OUT
from foldbarn.core.policies.performance import DiskWork, Load
from foldbarn.core.policies.policy import Policy, Wishes, most_survived
from foldbarn.core.policies.shares import Heats, foreseen
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.pools.repair import Repair
from foldbarn.core.pools.sizing import LEFT_OUT, on_paper, read_plan, say_chance
from foldbarn.core.site import Pool, SiteView, Volume
from foldbarn.core.volumes.pace import Pace, Work
from foldbarn.store.tables import ChangeRow

Carriers = Mapping[int, Sequence[int]]  # by number of a ply, changes that carry strips of it


def bench_out(view: SiteView, asked: BenchIn) -> BenchOut:
    """Raises NotFound, NotPossible."""
    pool, load = view.pool(asked.pool), asked.meant()
    return BenchOut(
        pool=pool.name,
        level=asked.level,
        load=LoadIn(**asked.model_dump(include={"load", "reads", "block"})),
        pinned=[_pinned(view, key, load) for key in dict.fromkeys(asked.pin)],
        rows=[_bench_row(row, pool) for row in lay_side_by_side(view, pool, schemes_at(asked.level), load)],
        left_out=f"{LEFT_OUT} {SPEED_LEFT_OUT}",
    )


def paper_out(asked: PaperIn) -> BenchOut:
    """The same for machines on paper. Raises NotPossible where their plan cannot be read."""
    wish, load = asked.plan.meant(), asked.meant()
    view, pool = on_paper(read_plan(asked.plan.text), wish)
    rows = lay_side_by_side(view, pool, schemes_at(asked.level), load, wish)
    return BenchOut(
        pool=pool.name,
        level=asked.level,
        load=LoadIn(**asked.model_dump(include={"load", "reads", "block"})),
        pinned=[],
        rows=[_bench_row(row, pool) for row in rows],
        left_out=f"{LEFT_OUT} {SPEED_LEFT_OUT}",
    )


def _pinned(view: SiteView, key: str, load: Load) -> BenchRowOut:
    """A scheme by its key: pool, level, k, m and strips a domain. Raises NotFound, NotPossible."""
    try:
        name, level, *numbers = key.rsplit("/", 4)
        k, m, per_domain = map(int, numbers)
        scheme = Scheme(k, m, Level(level), per_domain)
    except ValueError as error:
        words = f"'{key}' names no scheme."
        raise NotPossible(words, about="pin", next_step="Pin schemes from the bench.") from error
    pool = view.pool(name)
    [row] = lay_side_by_side(view, pool, [scheme], load)
    return _bench_row(row, pool)


def bench_csv(bench: BenchOut) -> str:
    """What is shown, pinned ones first, one scheme a row; sizes in bytes, times in seconds."""
    text = io.StringIO()
    out = csv.writer(text, lineterminator="\r\n")
    levels = [level.value for level in Level]
    out.writerow(
        [
            "scheme",
            "pool",
            "level",
            "k",
            "m",
            "strips a domain",
            "cannot be held",
            "usable, bytes",
            "1 TiB takes, bytes",
        ]
        + [f"{level}s survived" for level in levels]
        + ["needs", "to heal", "small write: reads", "small write: writes", "landed: writes"]
        + ["whole stripe: writes"]
        + ["read, one lost: reads", "disk remade, s", "node remade, s", "loss a year"]
        + ["most operations a second", "limited by", "mean, s", "99 of 100, s"]
        + ["fast media last, years"]
    )
    for row in [*bench.pinned, *bench.rows]:
        speed = row.speed
        out.writerow(
            [row.counted, row.pool, row.level, row.k, row.m, row.per_domain, row.against]
            + [int(row.usable.value) if row.usable else "", int(row.takes.value)]
            + [row.survives.get(Level(level), 0) if not row.against else "" for level in levels]
            + [row.needs, row.to_heal, row.small_write.reads, row.small_write.writes]
            + [row.landed.writes if row.landed else "", row.large_write.writes]
            + [row.read_short.reads if row.m else ""]
            + [of.seconds if of else "" for of in (row.repair_disk, row.repair_node)]
            + [row.chance]
            + ([speed.most, speed.limit, speed.mean, speed.late] if speed else [""] * 4)
            + [row.life.years if row.life else ""]
        )
    return text.getvalue()


def _bench_row(row: BenchRow, pool: Pool) -> BenchRowOut:
    def work(of: DiskWork) -> WorkOut:
        return WorkOut(reads=of.reads, writes=of.writes)

    def remade(repair: Repair | None) -> RemadeOut | None:
        return RemadeOut(seconds=repair.seconds, waits=repair.replacing) if repair else None

    return BenchRowOut(
        key=_key(pool, row.scheme),
        pool=pool.name,
        speed=SpeedOut(**asdict(row.speed)) if row.speed else None,
        life=_life_out(row.life),
        counted=row.scheme.counted(),
        level=row.scheme.level.value,
        k=row.scheme.k,
        m=row.scheme.m,
        per_domain=row.scheme.per_domain,
        closer=CloserOut(key=_key(pool, row.closer), apart=row.closer.apart()) if row.closer else None,
        usual=row.scheme == pool.usual,
        against=row.against.sentence if row.against else "",
        cure=row.against.cure if row.against else "",
        usable=row.usable,
        takes=row.takes,
        survives=dict(row.survives),
        needs=row.needs,
        to_heal=row.to_heal,
        small_write=work(row.small_write),
        landed=work(row.landed) if row.landed else None,
        large_write=work(row.large_write),
        read_short=work(row.read_short),
        repair_disk=remade(row.repair_disk),
        repair_node=remade(row.repair_node),
        chance=say_chance(row.chance) if row.against is None else "",
    )


def _life_out(life: Life | None) -> LifeOut | None:
    if life is None:
        return None
    kind = life.endurance
    years = None if math.isinf(kind.years) else kind.years
    return LifeOut(years=years, lasts=kind.lasts, sentence=f"{kind.sentence(life.what)}.")


def _key(pool: Pool, scheme: Scheme) -> str:
    return f"{pool.name}/{scheme.level.value}/{scheme.k}/{scheme.m}/{scheme.per_domain}"


def standing_out(view: SiteView, volume: Volume) -> StandingOut | None:
    """None where it keeps no policy."""
    policy, found = view.policy_of(volume), conformance(view, volume)
    if policy is None or found is None:
        return None
    return StandingOut(
        policy=policy.name,
        version=policy.version,
        newest=view.policy(policy.name).version,
        standing=found.standing,
        lamp=found.standing.lamp,
        sentence=found.sentence(),
        cure=found.cure(),
    )


def adoption_out(view: SiteView, volumes: Sequence[Volume], policy: Policy) -> AdoptionOut:
    found = adopt(view, volumes, policy)
    pools = {row: view.pools[row] for row in found.moves}
    times = (estimate_of(found.during, pool, found.moves[row], lost=True) for row, pool in pools.items())
    return AdoptionOut(
        policy=policy.name,
        version=policy.version,
        promise=policy.wishes.sentence(),
        unchanged=all(v.policy == (policy.number, policy.version) for v in volumes),
        writes=sum(len(found.moves[row]) * pool.strip_bytes for row, pool in pools.items()),
        seconds=max((guess.seconds for guess in times), default=0.0),
        anew=[v.name for v in volumes if v.number in found.anew],
        against=[
            OpposedOut(volume=o.volume, sentence=o.against.sentence, cure=o.against.cure)
            for o in found.opposed
        ],
    )


def policy_out(view: SiteView, policy: Policy) -> PolicyOut:
    return PolicyOut.model_validate(_fields(view, policy, _users(view, policy, {}), room=False))


def policy_page(
    view: SiteView, policy: Policy, history: Sequence[ChangeRow], carriers: Carriers
) -> PolicyPage:
    users = _users(view, policy, carriers)
    kept = Counter(u.version for u in users)
    scheme = policy.wishes.scheme
    most = most_survived(scheme, policy.wishes.hot_scheme)
    begins = SavePolicyParams(
        name=policy.name,
        version=policy.version,
        copies=scheme.strips if scheme.is_mirror else None,
        data=None if scheme.is_mirror else scheme.k,
        parity=None if scheme.is_mirror else scheme.m,
        level=scheme.level,
        per_domain=scheme.per_domain,
        # What survives all that its protection can goes on doing so when that becomes another.
        survives=None if policy.wishes.survives == most else policy.wishes.survives,
        fast=policy.wishes.fast,
        encrypted=policy.wishes.encrypted,
        landing=policy.wishes.landing,
        share=policy.wishes.share,
        labels=list(policy.wishes.labels),
        operations=policy.wishes.operations or None,
        throughput=policy.wishes.throughput or None,
        cache=policy.wishes.cache,
        thin=policy.wishes.thin,
        share_copies=policy.wishes.share_copies or None,
        memory=policy.wishes.memory,
        compressed=policy.wishes.compressed,
        first=policy.wishes.first,
        hourly=policy.wishes.schedule.hourly,
        daily=policy.wishes.schedule.daily,
        weekly=policy.wishes.schedule.weekly,
        snapshot_room=policy.wishes.schedule.per_cent or None,
        meant_for=policy.meant_for,
        draft=policy.draft,
    )
    versions = [p for p in view.policies if p.number == policy.number]
    return PolicyPage.model_validate(
        {
            **_fields(view, policy, users),
            "versions": [
                VersionOut(version=p.version, promise=p.wishes.sentence(), volumes=kept[p.version])
                for p in reversed(versions)
            ],
            "users": users,
            "params": begins,
            "history": [change_line(row) for row in history],
        }
    )


def measured_out(view: SiteView, policy: Policy, heat: Heats, paces: Paces) -> list[MeasuredOut]:
    """By volume, of any version of the policy; of those that nobody may use there is nothing to measure."""
    kept = {
        volume.number: found.wishes
        for volume in view.volumes
        if volume.served and (found := view.policy_of(volume)) is not None and found.number == policy.number
    }
    mine = [volume for volume in view.volumes if volume.number in kept]
    expected: dict[int, Foretold] = {}
    for row in {volume.pool for volume in mine}:
        expected |= foretold(view, view.pools[row], paces, heat, kept)
    return [
        MeasuredOut(
            volume=volume.name,
            asked_per_second=_asked(paces.get(volume.number)),
            most_operations=kept[volume.number].operations or None,
            compared=[
                *_compared(paces.get(volume.number), expected.get(volume.number)),
                *_tiered(view, volume, heat, kept[volume.number]),
            ],
        )
        for volume in mine
    ]


def _asked(pace: Pace | None) -> float | None:
    """Operations a second; None where nobody has told."""
    return pace.a_second(pace.work.asked_for) if pace is not None and pace.seconds > 0 else None


def _compared(pace: Pace | None, expected: Foretold | None) -> list[ComparedOut]:
    """Nothing of a volume of which nothing is asked."""
    if pace is None or expected is None or not pace.work.operations:
        return []
    work, too_much = pace.work, "" if expected.mean is not None else "more than its disks should manage"
    on_disks = (work.disk_reads + work.disk_writes) / work.operations
    written = work.disk_written_bytes / work.written_bytes if work.written_bytes else None
    return [
        _beside(Compared.OPERATIONS, pace.a_second(work.operations), expected.operations, ""),
        _beside(Compared.MEAN, pace.mean, expected.mean, too_much),
        _beside(Compared.LATE, pace.within(), expected.late, too_much),
        _beside(Compared.DISK_OPERATIONS, on_disks, expected.disk_operations, ""),
        _beside(Compared.DISK_BYTES, written, expected.disk_bytes, "nothing is written"),
        *_from_cache(work, expected),
    ]


def _from_cache(work: Work, expected: Foretold) -> list[ComparedOut]:
    """Of a volume that no cache serves, and was to be served by none, nothing."""
    if not work.reads or not (work.cached_reads or expected.cached):
        return []
    share, said = work.cached_reads / work.reads, expected.cached or 0.0
    return [ComparedOut(of=Compared.CACHED, measured=share, expected=said, off=share - said)]


def _beside(of: Compared, measured: float | None, expected: float | None, why: str) -> ComparedOut:
    off = measured / expected - 1 if measured is not None and expected else None
    return ComparedOut(of=of, measured=measured, expected=expected, off=off, why=why if off is None else "")


def _tiered(view: SiteView, volume: Volume, heat: Heats, wishes: Wishes) -> list[ComparedOut]:
    """What the fast tier takes, and what of it has moved there, beside what is to be once all has."""
    if wishes.first and volume.hot is not None:
        there, all_of_it = int(volume.upper.sum()), hot_extents(view.pools[volume.pool], volume, wishes)
        return [_beside(Compared.RISEN, there, all_of_it, "")]
    fares = foreseen(view, volume, heat, wishes.share) if wishes.share else []
    found = []
    for one in fares[:1]:
        off = one.now - one.then
        found.append(ComparedOut(of=Compared.SERVED, measured=one.now, expected=one.then, off=off))
        found.append(_beside(Compared.RISEN, one.extents_now, one.extents_then, "none is to be there"))
    return found


def _fields(
    view: SiteView, policy: Policy, users: Sequence[UserOut], *, room: bool = True
) -> dict[str, object]:
    """room: whether it is found out how much more each pool would take."""
    wishes = policy.wishes
    standings = Counter(u.standing for u in users)
    return {
        "name": policy.name,
        "version": policy.version,
        "meant_for": policy.meant_for,
        "promise": wishes.sentence(),
        "counted": wishes.scheme.counted(),
        "level": wishes.scheme.level.value,
        "survives": wishes.survives,
        "fast": wishes.fast,
        "encrypted": wishes.encrypted,
        "draft": policy.draft,
        "volumes": [StandOut(standing=s, lamp=s.lamp, count=standings[s]) for s in Standing if standings[s]],
        "answers": answers_effect(view, answers(view, wishes, room=room)).rows,
    }


def carried_by(volume: Volume, carriers: Carriers) -> list[int]:
    """The changes that carry strips of a volume, by number."""
    return sorted({change for ply in volume.plies for change in carriers.get(ply.number, ())})


def _users(view: SiteView, policy: Policy, carriers: Carriers) -> list[UserOut]:
    """The volumes that keep any version of it."""
    mine = [v for v in view.volumes if v.policy and v.policy[0] == policy.number]
    found = [(volume, standing_out(view, volume)) for volume in mine]
    return [
        UserOut(
            volume=volume.name,
            pool=view.pools[volume.pool].name,
            binned=volume.binned is not None,
            mended_by=carried_by(volume, carriers),
            **stands.model_dump(),
        )
        for volume, stands in found
        if stands is not None
    ]
