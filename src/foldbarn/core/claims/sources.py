"""What a claim is to be filled from: a snapshot, or another claim (Kubernetes API, core/v1,
PersistentVolumeClaim, spec.dataSource; snapshot.storage.k8s.io/v1).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, cast

from foldbarn.core.claims.claims import Claim, Source
from foldbarn.core.claims.kept import TRIED_AGAIN, KeptClaim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.claims.snapshots import (
    is_leaving,
    snapshot_asked_by,
    snapshot_of_content,
)
from foldbarn.core.errors import NotPossible
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.units import say_exactly
from foldbarn.core.volumes.origins import against_reading, readers_of
from foldbarn.core.volumes.snapshots import Origin, Snapshot

Thing = Mapping[str, Any]


class SourceKind(StrEnum):
    """Of what a claim can be filled from."""

    SNAPSHOT = "VolumeSnapshot"
    CLAIM = "PersistentVolumeClaim"


@dataclass(frozen=True, slots=True)
class Resolved:
    """What a source comes to. origin: the snapshot that a volume is to be a copy of; sentence, cure: why
    there is none yet, and what would help; take_of: the volume of which a snapshot has to be taken first.
    """

    origin: Origin | None = None
    sentence: str = ""
    cure: str = ""
    take_of: Volume | None = None


def source_of_snapshot(
    view: SiteView, orchestrator: int, asked: Thing | None, content: Thing | None
) -> Resolved:
    """asked: the snapshot that a claim names, as the orchestrator has it; content: the object that stands for
    what was taken.
    """
    if asked is None or is_leaving(asked):
        return Resolved(
            sentence="The snapshot that it is to be filled from is not there.", cure="Take it first."
        )
    name = asked["metadata"]["name"]
    refers = (content or {}).get("spec", {}).get("volumeSnapshotRef") or {}
    if content is None or refers.get("uid") != asked["metadata"].get("uid"):
        return Resolved(sentence=f"Nothing has been taken for the snapshot {name} yet.", cure=TRIED_AGAIN)
    found = snapshot_of_content(view, orchestrator, content)
    if found is None:
        words = f"What was taken for the snapshot {name} is not there, or was not taken here."
        return Resolved(sentence=words, cure="Name another snapshot.")
    return _readable(*found)


def source_of_claim(view: SiteView, source: KeptClaim | None, mine: Claim) -> Resolved:
    """source: the claim that another one (mine) names; of its volume a snapshot is taken for it."""
    volume = view.known_volume(source.volume) if source is not None and source.volume is not None else None
    if source is None or volume is None or not source.held or volume.forming or volume.binned is not None:
        words = f"The claim {mine.source.name if mine.source else ''} that it is to be filled from has no "
        return Resolved(sentence=f"{words}volume.", cure=TRIED_AGAIN)
    taken = snapshot_asked_by(volume, mine.uid)
    if taken is not None:
        return _readable(volume, taken)
    if refusal := _unlike(view, mine, volume, volume.size_bytes):  # before anything is taken for nothing
        return Resolved(sentence=refusal.sentence, cure=refusal.next_step or "")
    words = f"A snapshot of {volume.name} is taken for it first."
    return Resolved(sentence=words, cure=TRIED_AGAIN, take_of=volume)


def source_known_here(view: SiteView, orchestrator: int, mine: Claim) -> Resolved:
    """What the source of a claim comes to, as far as is known without asking the orchestrator (by number)."""
    assert mine.source is not None
    kind, name = mine.source.kind, mine.source.name
    path = f"{mine.namespace}/{name}"
    if kind == SourceKind.CLAIM:
        there = [k for k in view.claims if (k.orchestrator, k.path) == (orchestrator, path) and k.held]
        return source_of_claim(view, there[0] if there else None, mine)
    if kind != SourceKind.SNAPSHOT:
        return unknown_source(mine.source)
    for volume in view.volumes:
        for one in volume.snapshots:
            asked = one.asked
            if asked and not asked.fills and (asked.orchestrator, asked.path) == (orchestrator, path):
                return _readable(volume, one)
    return Resolved(sentence=f"No snapshot was taken here for {path}.", cure="Take it first.")


def unknown_source(source: Source) -> Resolved:
    words = f"It is to be filled from a {source.kind}, of which nothing is known here."
    return Resolved(sentence=words, cure=f"Name a {SourceKind.SNAPSHOT} or a {SourceKind.CLAIM}.")


def _readable(volume: Volume, snapshot: Snapshot) -> Resolved:
    if refusal := against_reading(volume, snapshot):
        return Resolved(sentence=refusal.sentence, cure=refusal.next_step or TRIED_AGAIN)
    return Resolved(Origin(volume.number, snapshot.number))


def source_of_kept(kept: KeptClaim) -> Resolved | None:
    """As far as it is written down what a claim is to be filled from; none where it begins empty."""
    if kept.claim.source is None:
        return None
    if kept.origin is not None:
        return Resolved(kept.origin)
    return Resolved(sentence="What it is to be filled from is not there yet.", cure=TRIED_AGAIN)


def against_filling(view: SiteView, claim: Claim, origin: Origin) -> NotPossible | None:
    """Why a claim cannot be filled from a snapshot; None where it can. What was taken of a volume with a file
    system is not understood as one of blocks, nor the other way round.
    """
    volume = view.known_volume(origin.volume)
    snapshot = next((s for s in volume.snapshots if s.number == origin.snapshot), None) if volume else None
    if volume is None or snapshot is None:
        return NotPossible("What it is to be filled from is gone.", next_step="Name something else.")
    if refusal := against_reading(volume, snapshot):
        return refusal
    return _unlike(view, claim, volume, snapshot.bytes or volume.size_bytes)


def _unlike(view: SiteView, claim: Claim, volume: Volume, size: int) -> NotPossible | None:
    """Why a claim cannot have what a volume holds, or held in so many bytes; None where it can."""
    if claim.size < size:
        words = f"It asks for {say_exactly(claim.size)}, and is to be filled from {say_exactly(size)}."
        return NotPossible(words, next_step=f"Ask for at least {say_exactly(size)}.")
    owner, mode = view.last_claim_of(volume.number), claim.volume_mode
    if owner is not None and owner.claim.volume_mode is not mode:
        words = f"It asks for volumeMode {mode.value}, and is to be filled from what was used as "
        return NotPossible(f"{words}{owner.claim.volume_mode.value}.", next_step="Ask for the same.")
    return None


def spent(view: SiteView, orchestrator: int) -> list[tuple[Volume, list[Snapshot]]]:
    """Snapshots that were taken to fill claims of an orchestrator (by number) and are of no use any more, by
    volume: their claims have been filled, or are gone, and no copy reads from them.
    """
    found = []
    for volume, taken in _taken_to_fill(view):
        if volume.erasing:
            continue
        gone = [
            one
            for one in taken
            if one.asked is not None and one.asked.orchestrator == orchestrator
            if not _is_wanted(view, volume, one)
        ]
        if gone:
            found.append((volume, gone))
    return found


def _is_wanted(view: SiteView, volume: Volume, one: Snapshot) -> bool:
    assert one.asked is not None
    whose = one.asked.orchestrator, one.asked.uid
    making = (k for k in view.claims if k.life in (Life.WAITING, Life.MAKING))
    waits = any((k.orchestrator, k.claim.uid) == whose for k in making)
    return one.forming or waits or bool(readers_of(view, volume, [one.number]))


def _taken_to_fill(view: SiteView) -> list[tuple[Volume, list[Snapshot]]]:
    """Of all volumes. Found once for each picture."""
    if "taken to fill" not in view.findings:
        view.findings["taken to fill"] = [
            (volume, taken)
            for volume in view.volumes
            if (taken := [one for one in volume.snapshots if one.asked is not None and one.asked.fills])
        ]
    return cast("list[tuple[Volume, list[Snapshot]]]", view.findings["taken to fill"])
