"""Figures for other tools, as OpenMetrics 1.0 has them (its text exposition). Labels join who uses a thing
with what carries it. Of each family at most MOST things are told of, so that a site of any size is one
answer; how many were left out is told as well.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence

from fastapi import FastAPI, Request, Response
from prometheus_client.core import GaugeMetricFamily, Metric, StateSetMetricFamily
from prometheus_client.exposition import choose_encoder
from prometheus_client.registry import Collector, CollectorRegistry

from foldbarn.core.pools.capacity import free_figure, pool_space
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.metrics import Metric as Watched
from foldbarn.core.watch.metrics import figures_of
from foldbarn.core.watch.samples import Sampled
from foldbarn.core.watch.states import Lamp
from foldbarn.services.site import outlook
from foldbarn.store import alerts, samples
from foldbarn.store.database import transaction

MOST = 5_000  # things of a family
_NAMES = {
    Watched.READS: ("reads_per_second", "Reads a second."),
    Watched.WRITES: ("writes_per_second", "Writes a second."),
    Watched.READ_BYTES: ("read_bytes_per_second", "Bytes read a second."),
    Watched.WRITTEN_BYTES: ("written_bytes_per_second", "Bytes written a second."),
    Watched.HELD_BYTES: ("held_bytes", "Bytes that are held."),
    Watched.LATE_TIME: ("late_time_seconds", "The time in which 99 of 100 operations are done."),
    Watched.MEAN_TIME: ("mean_time_seconds", "The time that an operation takes on average."),
    Watched.SHORT: ("short_extents", "Extents that lack strips."),
    Watched.CELSIUS: ("temperature_celsius", "How warm a disk is, as it says itself."),
    Watched.WORN: ("worn_ratio", "The part of its rated life that is used, as a disk says itself."),
    Watched.DEFECTS: ("defect_sectors", "Sectors gone bad, as a disk says itself."),
}
_OF_VOLUMES = (
    Watched.READS,
    Watched.WRITES,
    Watched.READ_BYTES,
    Watched.WRITTEN_BYTES,
    Watched.HELD_BYTES,
    Watched.MEAN_TIME,
    Watched.LATE_TIME,
    Watched.SHORT,
)
_OF_DISKS = (
    Watched.READ_BYTES,
    Watched.WRITTEN_BYTES,
    Watched.CELSIUS,
    Watched.WORN,
    Watched.DEFECTS,
)
_VOLUME_LABELS = ("volume", "pool", "policy", "namespace", "claim", "class")
_DISK_LABELS = ("disk", "node", "pool")


class Barn(Collector):
    """All families, of the site as it stands when it is asked."""

    def __init__(self, found: Outlook) -> None:
        self.outlook = found
        self.left_out: dict[str, int] = {}

    def collect(self) -> Iterator[Metric]:
        view = self.outlook.view
        yield from self._pools(view)
        yield from self._nodes(view)
        yield from self._disks(view)
        yield from self._volumes(view)
        yield from _alerts()
        left = GaugeMetricFamily(
            "foldbarn_left_out", "Things of a kind that are not told of.", labels=["kind"]
        )
        for kind, number in self.left_out.items():
            left.add_metric([kind], number)
        yield left

    def _some(self, kind: str, things: Sequence[object]) -> range:
        """Rows of those that are told of."""
        self.left_out[kind] = max(0, len(things) - MOST)
        return range(min(len(things), MOST))

    def _pools(self, view: SiteView) -> Iterator[Metric]:
        free = GaugeMetricFamily("foldbarn_pool_free_bytes", "What may still be stored.", labels=["pool"])
        full = GaugeMetricFamily("foldbarn_pool_full_ratio", "The part that is taken.", labels=["pool"])
        line = GaugeMetricFamily(
            "foldbarn_pool_fill_line_ratio", "From where on nothing new is promised.", labels=["pool"]
        )
        for row in self._some("pool", view.pools):
            pool = view.pools[row]
            space = pool_space(view, pool)
            free.add_metric([pool.name], free_figure(pool, space).value)
            full.add_metric([pool.name], space.full)
            line.add_metric([pool.name], pool.fill_line)
        yield from (free, full, line)
        states = ((pool.name, self.outlook.pool(row).lamp) for row, pool in enumerate(view.pools[:MOST]))
        yield _lamps("pool", ["pool"], (([name], lamp) for name, lamp in states))

    def _nodes(self, view: SiteView) -> Iterator[Metric]:
        heard = GaugeMetricFamily("foldbarn_node_heard", "Whether its agent is heard.", labels=["node"])
        for row in self._some("node", view.nodes):
            node = view.nodes[row]
            heard.add_metric([node.name], float(node.contact == Contact.HEARD))
        yield heard

    def _disks(self, view: SiteView) -> Iterator[Metric]:
        labels = {}
        for row in self._some("disk", view.disks):
            disk = view.disks[row]
            pool = view.pools[disk.pool].name if disk.pool >= 0 else ""
            labels[disk.number] = [disk.name, view.nodes[disk.node].name, pool]
        yield from _sampled("disk", Sampled.DISK, _OF_DISKS, _DISK_LABELS, labels)
        health = ((labels[d.number], self.outlook.disk(d).lamp) for d in view.disks if d.number in labels)
        yield _lamps("disk", list(_DISK_LABELS), health)

    def _volumes(self, view: SiteView) -> Iterator[Metric]:
        claims = {one.volume: one for one in view.claims if one.volume is not None and one.held}
        policies = {policy.number: policy.name for policy in view.current_policies}
        labels = {}
        for row in self._some("volume", view.volumes):
            volume = view.volumes[row]
            claim = claims.get(volume.number)
            labels[volume.number] = [
                volume.name,
                view.pools[volume.pool].name,
                policies.get(volume.policy[0], "") if volume.policy else "",
                claim.claim.namespace if claim else "",
                claim.claim.name if claim else "",
                claim.class_name if claim else "",
            ]
        yield from _sampled("volume", Sampled.VOLUME, _OF_VOLUMES, _VOLUME_LABELS, labels)


def _sampled(
    kind: str,
    of: Sampled,
    metrics: Iterable[Watched],
    names: Sequence[str],
    labels: dict[int, list[str]],
) -> Iterator[Metric]:
    """Of what was sampled last; what is not known is not told. labels: by number of the thing."""
    with transaction() as session:
        series, rows = samples.newest(session, of)
    for metric in metrics:
        name, words = _NAMES[metric]
        family = GaugeMetricFamily(f"foldbarn_{kind}_{name}", words, labels=list(names))
        for one, value in zip(series, figures_of(metric, rows).tolist(), strict=True):
            if one.number in labels and not math.isnan(value):
                family.add_metric(labels[one.number], value)
        yield family


def _lamps(kind: str, names: list[str], found: Iterable[tuple[list[str], Lamp]]) -> Metric:
    family = StateSetMetricFamily(f"foldbarn_{kind}_state", "How it is, in one word.", labels=names)
    for labels, lamp in found:
        family.add_metric(labels, {one.value: one is lamp for one in Lamp})
    return family


def _alerts() -> Iterator[Metric]:
    firing = GaugeMetricFamily(
        "foldbarn_alerts_firing", "Things of which a watch rule fires.", labels=["rule", "severity"]
    )
    with transaction() as session:
        open_ = [row.rule_id for row in alerts.open_alerts(session) if row.fired is not None]
        for rule in alerts.rules(session):
            firing.add_metric([rule.name, rule.severity.value], open_.count(rule.number))
    yield firing


def expose(app: FastAPI) -> None:
    @app.get("/metrics", include_in_schema=False)
    def metrics(request: Request) -> Response:
        """In the format that is asked for: OpenMetrics, or the older plain text."""
        registry = CollectorRegistry(auto_describe=False)
        registry.register(Barn(outlook()))
        encode, kind = choose_encoder(request.headers.get("accept", ""))
        return Response(encode(registry), media_type=kind)
