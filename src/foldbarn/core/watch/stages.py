"""The work in its order, how far each stage is, and which is next."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from foldbarn.core.site import Contact, SiteView
from foldbarn.core.units import say_count


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage. path: of the page where it is done; offer: the words that lead there."""

    name: str
    state: Literal["done", "next", "later"]
    sentence: str
    path: str
    offer: str


def stages(view: SiteView) -> list[Stage]:
    """Gather, arrange, form, pool, provision. The first that is not done is next."""
    heard = sum(n.contact != Contact.AWAITED for n in view.nodes)
    fit = sum(map(view.is_fit, view.disks))
    unplaced = [n for n in view.nodes if view.racks[n.rack].name == "unplaced"]
    racks = {n.rack for n in view.nodes}
    cluster = view.cluster
    found = [
        (
            "Gather",
            heard > 0,
            f"{say_count(len(view.nodes), 'node')}, {say_count(len(view.disks), 'disk')}, {fit:,} "
            "fit and free."
            if view.nodes
            else "No node is known yet.",
            "/intake",
            "Take in machines",
        ),
        (
            "Arrange",
            bool(view.nodes) and not unplaced and len(racks) > 1,
            f"{say_count(len(unplaced), 'node')} in no rack yet."
            if unplaced
            else f"{say_count(len(view.rooms), 'room')}, {say_count(len(racks), 'rack')}.",
            "/arrange",
            "Arrange rooms and racks",
        ),
        (
            "Form",
            cluster is not None and not cluster.forming,
            "No cluster yet."
            if cluster is None
            else f"{cluster.name} is being formed."
            if cluster.forming
            else f"{cluster.name}, led by {cluster.leader}."
            if cluster.leader
            else f"{cluster.name}; nobody leads now.",
            "/cluster",
            "Form the cluster",
        ),
        (
            "Pool",
            bool(view.pools),
            f"{say_count(len(view.pools), 'pool')}." if view.pools else "No pool yet.",
            "/pools?plan=form-pool",
            "Preview a pool",
        ),
        (
            "Provision",
            bool(view.volumes_kept),
            f"{say_count(len(view.volumes_kept), 'volume')}." if view.volumes_kept else "No volume yet.",
            "/volumes?plan=create-volume",
            "Preview a volume",
        ),
    ]
    next_ = next((i for i, stage in enumerate(found) if not stage[1]), len(found))
    return [
        Stage(name, "done" if done else "next" if i == next_ else "later", sentence, path, offer)
        for i, (name, done, sentence, path, offer) in enumerate(found)
    ]
