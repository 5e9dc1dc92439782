"""Consumers in orchestrators, as a page shows them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, replace
from datetime import UTC, datetime
from typing import Any

import yaml

from foldbarn.api.bodies import StateOut
from foldbarn.api.changes.pictures import change_line
from foldbarn.api.consumers.models import (
    AskedClaims,
    ClaimOut,
    ClaimPage,
    ClaimSnapshot,
    ClaimsOut,
    ClassLimits,
    ClassOut,
    ConsumersOut,
    DocumentOut,
    FilledFrom,
    GrantOut,
    KeeperAddress,
    LifeCount,
    LineOut,
    ManifestsIn,
    ManifestsOut,
    NamespaceOut,
    OfferOut,
    OrchestratorOut,
    SecretOut,
    TeamPage,
    ThreadOut,
    WishOut,
    WouldOut,
)
from foldbarn.changes.kinds.consumers.bind_again import may_have
from foldbarn.changes.kinds.consumers.make_secret import against_another
from foldbarn.core.claims.admission import admission_of, had_in
from foldbarn.core.claims.classes import StorageClass, default_of
from foldbarn.core.claims.grants import Grant, Had, Limits, most_for_one_more
from foldbarn.core.claims.kept import HELD, KeptClaim, Orchestrator, Secret
from foldbarn.core.claims.manifests import (
    Asked,
    asked_in,
    claim_as_asked,
    claim_to_start_from,
    quota_of,
    restore_to_start_from,
    set_to_start_from,
    snapshot_to_start_from,
)
from foldbarn.core.claims.objects import class_object, handle_of, object_name, volume_object
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.claims.rights import RIGHTS, Right
from foldbarn.core.claims.secrets import connected_by, said_of_secrets, where_it_answers
from foldbarn.core.claims.snapshots import snapshot_handle
from foldbarn.core.claims.sources import source_known_here
from foldbarn.core.errors import BarnError, NotFound, NotPossible
from foldbarn.core.names import folded, natural_key
from foldbarn.core.pools.filling import full_in
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.volumes.snapshots import Snapshot, by_age
from foldbarn.core.watch.claimed import claim_state
from foldbarn.core.watch.kept import snapshot_state
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.orchestrators import orchestrator_state
from foldbarn.core.watch.states import worst
from foldbarn.store.tables import ChangeRow

MOST_ON_A_PAGE = 500
NO_ONE: tuple[Had, ...] = ()


def consumers_out(outlook: Outlook) -> ConsumersOut:
    view = outlook.view
    default, answers = default_of(view.classes), where_it_answers(view)
    return ConsumersOut(
        orchestrators=[_orchestrator(view, one) for one in view.orchestrators],
        namespaces=_namespaces(outlook),
        classes=[_class(view, one) for one in view.classes],
        default_class=default.name if default else "",
        lives=_lives(view.claims),
        threads=_threads(view),
        service_address=answers.service,
        keepers=[KeeperAddress(name=n, address=at) for n, at in sorted(answers.keepers.items())],
    )


def _threads(view: SiteView) -> list[ThreadOut]:
    """Whole namespaces after one another, and in each the largest first."""
    found: dict[tuple[int, str, str, int, bool], list[int]] = defaultdict(list)
    for kept in view.claims:
        volume = _volume_of(view, kept)
        if volume is not None and (kept.held or kept.life is Life.ASIDE):
            aside = kept.life is Life.ASIDE
            whose = kept.orchestrator, kept.claim.namespace, kept.class_name, volume.pool, aside
            found[whose].append(volume.size_bytes if aside else kept.promised)
    names = {one.number: one.name for one in view.orchestrators}
    threads = [
        ThreadOut(
            orchestrator=names[orchestrator],
            namespace=namespace,
            class_name=class_name,
            pool=view.pools[pool].name,
            bytes=sum(sizes),
            claims=len(sizes),
            aside=aside,
        )
        for (orchestrator, namespace, class_name, pool, aside), sizes in found.items()
    ]
    return sorted(threads, key=lambda t: (t.orchestrator, natural_key(t.namespace), t.aside, -t.bytes))


def _lives(claims: Iterable[KeptClaim]) -> list[LifeCount]:
    counted = Counter(kept.life for kept in claims)
    return [LifeCount(life=life, count=counted[life]) for life in Life if life is not Life.OVER]


def _orchestrator(view: SiteView, found: Orchestrator) -> OrchestratorOut:
    mine = [kept for kept in view.claims if kept.orchestrator == found.number]
    granted = {grant.policy for grant in view.grants if grant.orchestrator == found.number}
    return OrchestratorOut(
        number=found.number,
        name=found.name,
        url=found.url,
        authority=found.authority,
        identity=found.identity,
        version=found.version,
        answering=found.answering,
        state=StateOut.of(orchestrator_state(found)),
        since=_moment(found.since),
        missing=[LineOut(line=line, why=_why(line)) for line in found.missing],
        namespaces=len(found.namespaces),
        lives=_lives(mine),
        classes=[one.name for one in view.classes if one.policy in granted],
        secrets=[_secret(view, one) for one in found.secrets],
        secrets_said=said_of_secrets(view, found),
        against_another=refusal.sentence if (refusal := against_another(found)) else "",
    )


def _secret(view: SiteView, found: Secret) -> SecretOut:
    return SecretOut(
        name=found.name,
        made_at=_moment(found.made_at),
        shown_at=_moment(found.shown_at) if found.shown_at is not None else None,
        shown_to=found.shown_to,
        hosts=[host.name for host in connected_by(view, found)],
    )


def _why(line: str) -> str:
    """What a right is for, by the line that would give it."""
    said = yaml.safe_load(line)[0]
    group, resource = said["apiGroups"][0], said["resources"][0]
    found = next((one for one in RIGHTS if (one.group, one.resource) == (group, resource)), None)
    return found.why if isinstance(found, Right) else ""


def _namespaces(outlook: Outlook) -> list[NamespaceOut]:
    """Those that were granted anything or have claims, and all others that are there."""
    view = outlook.view
    places: dict[tuple[int, str], list[KeptClaim]] = defaultdict(list)
    for one in view.orchestrators:
        for name in one.namespaces:
            places[one.number, name] = []
    for grant in view.grants:
        places.setdefault((grant.orchestrator, grant.namespace), [])
    for kept in view.claims:
        if kept.life is not Life.OVER:
            places[kept.orchestrator, kept.claim.namespace].append(kept)
    order = {one.number: place for place, one in enumerate(view.orchestrators)}
    keys = sorted(places, key=lambda key: (order[key[0]], natural_key(key[1])))
    return [_namespace(outlook, *key, places[key]) for key in keys]


def _namespace(outlook: Outlook, number: int, name: str, mine: Sequence[KeptClaim]) -> NamespaceOut:
    view = outlook.view
    orchestrator = view.orchestrator_numbered(number)
    grants = [g for g in view.grants if (g.orchestrator, g.namespace) == (number, name)]
    counted = Counter(kept.life for kept in mine)
    living = [kept for kept in mine if kept.life not in (Life.BINNED, Life.HANDED_ON)]
    return NamespaceOut(
        orchestrator=orchestrator.name,
        name=name,
        there=name in orchestrator.namespaces,
        grants=[_grant(view, grant) for grant in grants],
        waiting=counted[Life.WAITING],
        bound=counted[Life.BOUND],
        aside=counted[Life.ASIDE],
        state=StateOut.of(worst(claim_state(outlook, kept) for kept in living)),
    )


def _grant(view: SiteView, grant: Grant) -> GrantOut:
    had = had_in(view).get(grant.orchestrator, {}).get((grant.namespace, grant.policy), NO_ONE)
    policy = view.policy_numbered(grant.policy)
    used = sum(one.bytes for one in had)
    return GrantOut(
        orchestrator=view.orchestrator_numbered(grant.orchestrator).name,
        namespace=grant.namespace,
        policy=policy.name,
        promise=policy.wishes.sentence(),
        bytes=grant.limits.bytes,
        claims=grant.limits.claims,
        bytes_a_claim=grant.bytes_a_claim,
        used_bytes=used,
        used_claims=len(had),
        left_bytes=_left(grant.limits.bytes, used),
        left_claims=_left(grant.limits.claims, len(had)),
        by_class=[_class_limits(name, limits, had) for name, limits in sorted(grant.by_class.items())],
        classes=[one.name for one in view.classes if one.policy == grant.policy],
    )


def _left(limit: int | None, used: int) -> int | None:
    return None if limit is None else max(0, limit - used)


def _class_limits(name: str, limits: Limits, had: Sequence[Had]) -> ClassLimits:
    mine = [one for one in had if one.class_name == name]
    used = sum(one.bytes for one in mine)
    return ClassLimits(
        name=name, bytes=limits.bytes, claims=limits.claims, used_bytes=used, used_claims=len(mine)
    )


def _class(view: SiteView, found: StorageClass) -> ClassOut:
    policy = view.policy_numbered(found.policy)
    names = {one.number: one.name for one in view.orchestrators}
    granted = [grant for grant in view.grants if grant.policy == found.policy]
    by_it = [kept for kept in view.claims if kept.class_name == found.name and kept.held]
    waiting = [k for k in view.claims if k.life is Life.WAITING and k.claim.class_name == found.name]
    others = [one.name for one in view.orchestrators if found.name in one.others]
    appears = {names[grant.orchestrator] for grant in granted} - set(others)
    return ClassOut(
        name=found.name,
        policy=policy.name,
        promise=policy.wishes.sentence(),
        pool=view.pool_numbered(found.pool).name if found.pool is not None else "",
        reclaim=found.reclaim,
        binding=found.binding,
        expands=found.expands,
        file_system=found.file_system,
        mount_options=list(found.mount_options),
        default=found.default,
        appears=sorted(appears, key=natural_key),
        others=others,
        granted=[f"{names[grant.orchestrator]}/{grant.namespace}" for grant in granted],
        claims=len(by_it),
        waiting=len(waiting),
    )


# Claims. -------------------------------------------------------------------------------------------------


def claims_out(outlook: Outlook, asked: AskedClaims) -> ClaimsOut:
    """Raises NotFound for an orchestrator that is not there."""
    view = outlook.view
    there = [kept for kept in view.claims if kept.life is not Life.OVER]
    found = there
    if asked.orchestrator:
        number = view.orchestrator(asked.orchestrator).number
        found = [kept for kept in found if kept.orchestrator == number]
    if asked.namespace:
        found = [kept for kept in found if kept.claim.namespace == asked.namespace]
    if asked.life:
        found = [kept for kept in found if kept.life in asked.life]
    for word in folded(asked.words).split():
        found = [kept for kept in found if word in kept.path or word in (kept.claim.class_name or "")]
    pages = max(1, -(-len(found) // asked.per))
    page = min(asked.page, pages)
    shown = found[(page - 1) * asked.per : page * asked.per]
    return ClaimsOut(
        claims=[claim_out(outlook, kept) for kept in shown],
        matching=len(found),
        kept=len(there),
        page=page,
        pages=pages,
    )


def claim_out(outlook: Outlook, kept: KeptClaim) -> ClaimOut:
    return ClaimOut.model_validate(_claim_fields(outlook, kept))


def _claim_fields(outlook: Outlook, kept: KeptClaim) -> dict[str, object]:
    view, claim = outlook.view, kept.claim
    volume = _volume_of(view, kept)
    policy = next((p for p in view.current_policies if p.number == kept.policy), None)
    return {
        "number": kept.number,
        "orchestrator": view.orchestrator_numbered(kept.orchestrator).name,
        "namespace": claim.namespace,
        "name": claim.name,
        "asked_class": claim.class_name,
        "class_name": kept.class_name,
        "size": claim.size,
        "promised": kept.promised,
        "modes": sorted(claim.modes),
        "volume_mode": claim.volume_mode,
        "life": kept.life,
        "hindrance": kept.hindrance,
        "state": StateOut.of(claim_state(outlook, kept)),
        "since": _moment(kept.since),
        "seen_at": _moment(kept.seen_at),
        "reclaim": kept.reclaim,
        "policy": policy.name if policy else "",
        "volume": volume.name if volume else "",
        "volume_bytes": volume.size_bytes if volume else 0,
        "written": volume.written_bytes if volume else 0,
        "full_in": full_in(view, volume) if volume else None,
        "used_by": kept.used_by,
    }


def _volume_of(view: SiteView, kept: KeptClaim) -> Volume | None:
    return view.known_volume(kept.volume) if kept.volume is not None else None


def claim_page(outlook: Outlook, number: int, history: Sequence[ChangeRow]) -> ClaimPage:
    """Raises NotFound."""
    view = outlook.view
    kept = view.claim_numbered(number)
    volume = _volume_of(view, kept)
    hosts = view.target_of(volume.number) if volume else None
    return ClaimPage.model_validate(
        _claim_fields(outlook, kept)
        | {
            "uid": kept.claim.uid,
            "object_name": object_name(kept.claim.uid) if kept.life in _TOLD else "",
            "handle": handle_of(view.mark, volume.number) if volume else "",
            "pool": view.pools[volume.pool].name if volume else "",
            "hosts": [view.host_numbered(one.host).name for one in hosts.attachments] if hosts else [],
            "extents": volume.extents if volume else 0,
            "manifest": _manifest(view, kept, volume),
            "may_have": [claim_out(outlook, one) for one in _could_have(view, kept)],
            "snapshots": [_snapshot(view, volume, one) for one in by_age(volume.snapshots)] if volume else [],
            "filled_from": _filled_from(view, kept),
            "history": [change_line(row) for row in history],
        }
    )


def _snapshot(view: SiteView, volume: Volume, one: Snapshot) -> ClaimSnapshot:
    return ClaimSnapshot(
        name=one.name,
        there=one.asked.path if one.asked is not None and not one.asked.fills else "",
        fills=one.asked.path if one.asked is not None and one.asked.fills else "",
        handle=snapshot_handle(view.mark, volume.number, one.number),
        taken_at=_moment(one.taken_at) if one.taken_at else None,
        bytes=one.bytes or volume.size_bytes,
        state=StateOut.of(snapshot_state(view, volume, one)),
    )


def _filled_from(view: SiteView, kept: KeptClaim) -> FilledFrom | None:
    source = kept.claim.source
    if source is None:
        return None
    volume = view.known_volume(kept.origin.volume) if kept.origin is not None else None
    found = (
        [s.name for s in volume.snapshots if kept.origin and s.number == kept.origin.snapshot]
        if volume
        else []
    )
    return FilledFrom(
        kind=source.kind,
        name=source.name,
        volume=volume.name if volume else "",
        snapshot=found[0] if found else "",
    )


_TOLD = (Life.TOLD, Life.BOUND, Life.ASIDE)


def _manifest(view: SiteView, kept: KeptClaim, volume: Volume | None) -> str:
    said = _volume_written(view, kept, volume)
    return as_yaml([said]) if said else ""


def _volume_written(view: SiteView, kept: KeptClaim, volume: Volume | None) -> dict[str, Any] | None:
    """The object of a claim's volume, once the orchestrator was told of it."""
    if volume is None or kept.life not in _TOLD:
        return None
    return volume_object(kept, mark=view.mark, volume=volume.number, name=volume.name, size=volume.size_bytes)


def _could_have(view: SiteView, kept: KeptClaim) -> list[KeptClaim]:
    """Claims that wait and could have what is kept aside of one."""
    if kept.life is not Life.ASIDE:
        return []
    found = []
    for other in view.claims:
        if other.life is Life.WAITING:
            try:
                may_have(view, kept, other)
            except BarnError:
                continue
            found.append(other)
    return found


# A namespace, as who works there sees it. ------------------------------------------------------------------


def team_page(outlook: Outlook, orchestrator: str, namespace: str) -> TeamPage:
    """Raises NotFound."""
    view = outlook.view
    found = view.orchestrator(orchestrator)
    mine = [
        kept
        for kept in view.claims
        if (kept.orchestrator, kept.claim.namespace) == (found.number, namespace)
        and kept.life is not Life.OVER
    ]
    grants = [g for g in view.grants if (g.orchestrator, g.namespace) == (found.number, namespace)]
    if namespace not in found.namespaces and not mine and not grants:
        raise NotFound(f"{found.name} has no namespace {namespace}.", about="namespace")
    whole = _namespace(outlook, found.number, namespace, mine)
    return TeamPage.model_validate(
        whole.model_dump()
        | {
            "offers": [
                _offer(view, found.number, grant, one)
                for grant in grants
                for one in view.classes
                if one.policy == grant.policy
            ],
            "claims": [claim_out(outlook, kept) for kept in mine[:MOST_ON_A_PAGE]],
        }
    )


def _offer(view: SiteView, orchestrator: int, grant: Grant, found: StorageClass) -> OfferOut:
    had = had_in(view).get(orchestrator, {}).get((grant.namespace, grant.policy), NO_ONE)
    return OfferOut(
        name=found.name,
        promise=view.policy_numbered(found.policy).wishes.sentence(),
        default=found.default,
        reclaim=found.reclaim,
        binding=found.binding,
        expands=found.expands,
        most=most_for_one_more(grant, had, found.name),
        claim=as_yaml([claim_to_start_from(grant.namespace, found)]),
        set=as_yaml([set_to_start_from(grant.namespace, found)]),
        snapshot=as_yaml([snapshot_to_start_from(grant.namespace)]),
        restore=as_yaml([restore_to_start_from(grant.namespace, found)]),
    )


# Manifests. ------------------------------------------------------------------------------------------------


class _Written(yaml.SafeDumper):
    """Lists stand in from what they are of, as people write them; what is said twice is written twice."""

    def increase_indent(self, flow: bool = False, indentless: bool = False) -> Any:
        return super().increase_indent(flow, False)

    def ignore_aliases(self, data: Any) -> bool:
        return True


def as_yaml(documents: Sequence[Mapping[str, Any]]) -> str:
    """Several documents in a file."""
    return yaml.dump_all([dict(one) for one in documents], Dumper=_Written, sort_keys=False, width=100)


def manifests_out(view: SiteView, asked: ManifestsIn) -> ManifestsOut:
    """What would become of what a file asks for, one after the other. Raises NotFound, NotPossible."""
    try:
        documents = [one for one in yaml.safe_load_all(asked.text) if one is not None]
    except (yaml.YAMLError, RecursionError) as error:
        where = getattr(getattr(error, "problem_mark", None), "line", None)
        place = f" Line {where + 1} cannot be read." if where is not None else ""
        raise NotPossible(f"This is no YAML.{place}", about="text") from error
    if not documents:
        raise NotPossible("There is no document in it.", about="text")
    orchestrator = view.orchestrator(asked.orchestrator)
    judge = admission_of(view, orchestrator.number)
    had = {whose: list(mine) for whose, mine in judge.had.items()}
    judge = replace(judge, had=had)
    found = []
    for one in asked_in(documents, asked.namespace):
        would = []
        for claim in one.claims:
            filled = source_known_here(view, orchestrator.number, claim) if claim.source else None
            if filled is not None and filled.take_of is not None:
                filled = None  # all that can be said against it before a snapshot is taken has been looked at
            said = judge.judge(claim, filled=filled)
            gets = ""
            if said.fits and said.policy is not None and said.pool is not None and said.storage_class:
                gets = f"A volume in {said.pool.name}, as {said.policy.name} says."
                whose = claim.namespace, said.storage_class.policy
                had.setdefault(whose, []).append(Had(claim.uid, said.storage_class.name, claim.size))
            would.append(
                WouldOut(claim=claim.path, size=claim.size, gets=gets, against=said.sentence, cure=said.cure)
            )
        wishes = [*_publishing(view, one), *_granting(view, orchestrator, one)]
        found.append(
            DocumentOut(
                kind=one.kind,
                name=one.name,
                namespace=one.namespace,
                about=one.about,
                claims=would,
                wishes=wishes,
            )
        )
    return ManifestsOut(documents=found)


def _publishing(view: SiteView, asked: Asked) -> list[WishOut]:
    found = asked.published
    if found is None:
        return []
    known = any(one.name == found.name for one in view.classes)
    params = {**asdict(found), "storage_class": found.name if known else ""}
    return [WishOut(kind="publish-class", params=params, words=f"Preview publishing {found.name}")]


def _granting(view: SiteView, orchestrator: Orchestrator, asked: Asked) -> list[WishOut]:
    """A grant for each policy of whose classes a quota speaks."""
    by_policy: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for one in view.classes:
        if (limits := asked.limits.get(one.name)) is not None:
            size = "" if limits.bytes is None else str(limits.bytes)
            by_policy[one.policy].append({"name": one.name, "size": size, "claims": limits.claims})
    found = []
    for policy, by_class in by_policy.items():
        name = view.policy_numbered(policy).name
        whose = {"orchestrator": orchestrator.name, "namespace": asked.namespace, "policy": name}
        words = f"Preview granting {name} to {asked.namespace}"
        found.append(WishOut(kind="grant-policy", params={**whose, "by_class": by_class}, words=words))
    return found


def classes_written(view: SiteView) -> str:
    """All classes, as they appear in an orchestrator."""
    return as_yaml([_class_written(view, one) for one in view.classes])


def _class_written(view: SiteView, found: StorageClass) -> dict[str, Any]:
    pool = next((pool.name for pool in view.pools if pool.number == found.pool), "")
    return class_object(found, view.policy_numbered(found.policy).name, pool)


def namespace_written(view: SiteView, orchestrator: str, namespace: str) -> str:
    """A quota, the classes that may be asked for, claims and their volumes, in a file. Raises NotFound."""
    found = view.orchestrator(orchestrator)
    grants = [g for g in view.grants if (g.orchestrator, g.namespace) == (found.number, namespace)]
    policies = {grant.policy for grant in grants}
    classes = [one for one in view.classes if one.policy in policies]
    mine = [
        kept
        for kept in view.claims
        if (kept.orchestrator, kept.claim.namespace) == (found.number, namespace)
        and kept.life in (Life.WAITING, *HELD)
    ]
    if namespace not in found.namespaces and not mine and not grants:
        raise NotFound(f"{found.name} has no namespace {namespace}.", about="namespace")
    quota = quota_of(namespace, grants, classes)
    documents = [
        *([quota] if quota else []),
        *(_class_written(view, one) for one in classes),
        *(claim_as_asked(kept.claim) for kept in mine),
    ]
    volumes = [_volume_written(view, kept, _volume_of(view, kept)) for kept in mine]
    return as_yaml([*documents, *(one for one in volumes if one is not None)])


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)
