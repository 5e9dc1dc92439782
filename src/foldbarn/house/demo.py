"""The demo's data, made through the product's own changes over its API."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import httpx

WAIT_SECONDS = 240.0
AGAIN_SECONDS = 15.0  # after which a step on a host that came to nothing is done again
GO_ON = 3  # times that a change which pauses is let go on
NODES = 9
LIVED_SECONDS = 5 * 3600.0  # of the stand-ins' time before anyone looks
FAST = 10_000.0

POOLS: list[dict[str, Any]] = [
    {"name": "quayside", "media": "ssd", "leave": ["turnstone-8"], "copies": 3, "headroom": "node"},
    {
        "name": "deepwater",
        "media": "hdd",
        "leave": [],
        "copies": 2,
        "headroom": "node",
        "serves": "fast tier",  # where what is written to it lands
        "overrides": {"gannet-c2": {"role": "spare", "reason": "kept to stand in for a worn one"}},
    },
]
CLUSTER: dict[str, Any] = {
    # One keeper in each room, and a witness that stands apart from both: either room may be lost.
    "name": "quay",
    "members": ["fulmar", "gannet", "petrel", "razorbill", "kittiwake", "dunlin", "turnstone", "whimbrel"],
    "keepers": ["fulmar", "turnstone"],
    "witness": "lamp-room",
    "service_address": "10.10.0.5/24",
}
POLICIES: list[dict[str, Any]] = [
    {
        "name": "steady-three",
        "copies": 3,
        "level": "rack",
        "cache": "write-back",
        "meant_for": "what must not stop",
    },
    {"name": "plain-pair", "copies": 2, "level": "rack", "meant_for": "what a backup brings back"},
    {
        "name": "land-and-settle",
        "data": 2,
        "parity": 1,
        "level": "rack",
        "landing": 5,
        "meant_for": "many small writes",
    },
    {
        "name": "seldom-read",
        "data": 2,
        "parity": 1,
        "level": "rack",
        "thin": True,
        "meant_for": "archives",
    },
    {
        "name": "busy-rises",
        "copies": 2,
        "level": "rack",
        "share": 10,
        "meant_for": "what is read unevenly",
    },
    {"name": "scratch", "copies": 1, "level": "disk", "meant_for": "what can be made again"},
]
VOLUMES = [
    ("ticketing-db", "quayside", "4 TB", "steady-three"),
    ("timetable", "quayside", "1500 GB", "steady-three"),
    ("berth-logs", "quayside", "2 TB", "plain-pair"),
    ("charts", "quayside", "3 TB", "plain-pair"),
    ("cargo-desk", "deepwater", "14 TB", "busy-rises"),
    ("deck-cameras", "deepwater", "22 TB", "land-and-settle"),
    ("tide-gauges", "deepwater", "9 TB", "seldom-read"),
    ("winter-timetable", "quayside", "600 GB", "plain-pair"),
    ("desks", "quayside", "1200 GB", "steady-three"),
]
# By a policy for all of it, but of one a disk that keeps what can be made again.
VMS: list[dict[str, Any]] = [
    {
        "name": "crew-roster",
        "cpus": 4,
        "memory": "16 GiB",
        "policy": "steady-three",
        "disks": [{"name": "system", "size": "120 GB"}, {"name": "records", "size": "680 GB"}],
    },
    {
        "name": "berth-planner",
        "cpus": 2,
        "memory": "4 GiB",
        "policy": "plain-pair",
        "disks": [
            {"name": "system", "size": "60 GB"},
            {"name": "swap-and-scratch", "size": "200 GB", "policy": "scratch"},
        ],
    },
    {
        "name": "tide-archive",
        "cpus": 2,
        "memory": "8 GiB",
        "policy": "seldom-read",
        "disks": [{"name": "records", "size": "1500 GB"}],
    },
]
VM_ACCOUNT = {"user": "fold-barn", "password": "tide-table"}  # that the stand-in VM hosts know
SWITCHED_ON = {"vm": "crew-roster", "host": "bridge-1"}
ORCHESTRATOR = "tender"
NAMESPACES = ("ticketing", "timetable", "cargo-desk", "deck-cameras")
CLASSES: list[dict[str, Any]] = [
    {"name": "steady-three", "policy": "steady-three", "pool": "quayside", "default": True},
    {"name": "plain-pair", "policy": "plain-pair"},
    {
        "name": "kept-three",
        "policy": "steady-three",
        "pool": "quayside",
        "reclaim": "Retain",
        "file_system": "ext4",
    },
    {
        "name": "seldom-read",
        "policy": "seldom-read",
        "pool": "deepwater",
        "binding": "WaitForFirstConsumer",
        "mount_options": ["noatime"],
    },
]
GRANTS: list[dict[str, Any]] = [
    {"namespace": "ticketing", "policy": "steady-three", "size": "600 GiB", "claims": 4},
    {"namespace": "timetable", "policy": "steady-three", "size": "500 GiB", "size_a_claim": "200 GiB"},
    {
        "namespace": "cargo-desk",
        "policy": "steady-three",
        "size": "1 TiB",
        "by_class": [{"name": "kept-three", "size": "400 GiB", "claims": 2}],
    },
    {"namespace": "cargo-desk", "policy": "plain-pair", "size": "500 GiB"},
    {"namespace": "deck-cameras", "policy": "seldom-read", "size": "4 TiB", "claims": 3},
]
CLAIMS = [
    ("ticketing", "seat-ledger", "steady-three", "200Gi"),
    ("cargo-desk", "manifests", "stedy-three", "80Gi"),  # no such class: it waits, and says why
    ("cargo-desk", "2024-manifests", "kept-three", "120Gi"),
    ("deck-cameras", "ring-buffer", "seldom-read", "800Gi"),
]
GROWN = ("ticketing", "seat-ledger", "300Gi")
DROPPED = ("cargo-desk", "2024-manifests")  # its claim goes, and its volume is kept aside
PODS = [("ticketing", "ledger-keeper", "seat-ledger"), ("deck-cameras", "recorder", "ring-buffer")]
TIDES = ("timetable", "tides", 3, "steady-three", "60Gi")  # a set of pods, each with a claim
TAKEN = ("ticketing", "before-the-season", "seat-ledger")  # a snapshot that the team asks for
REHEARSAL = ("ticketing", "rehearsal", "steady-three", "200Gi")  # a claim that is filled from it
HOSTS = {"ferry-desk-1": "ferry-desks", "ferry-desk-2": "ferry-desks", "ferry-desk-3": "ferry-desks"} | {
    "chart-plotter": "",
    "slipway": "",
    "tender-1": "tenders",
    "tender-2": "tenders",
    "tender-3": "tenders",
    "bridge-1": "bridges",
    "bridge-2": "bridges",
}
ATTACHED: list[dict[str, Any]] = [
    {"volume": "desks", "hosts": ["ferry-desks"], "file_system": "gfs2"},
    {"volume": "charts", "hosts": ["chart-plotter"], "file_system": "ext4"},
    {"volume": "berth-logs", "hosts": ["slipway"], "file_system": "xfs"},
    {"volume": "tide-gauges", "hosts": ["slipway"], "file_system": "xfs", "transport": "nvme"},
]
FILES: dict[str, Any] = {
    "addresses": "10.30.0.21-10.30.0.24",
    "addresses6": "fd00:30::21-fd00:30::24",
    "names": "files-{1..4}.skerry.example",
}
SHARES: list[dict[str, Any]] = [
    {
        "name": "charts",
        "policy": "plain-pair",
        "pool": "quayside",
        "quota": "500 GiB",
        "protocols": ["nfs3", "nfs4.1"],
        "rules": [
            {"who": "10.30.0.0/16", "right": "read"},
            {"who": "fd00:30::/64", "right": "read"},
            {"who": "10.30.9.4", "right": "read-write"},  # the chart office
            {"who": "10.30.9.100-10.30.9.199", "right": "none"},  # guests on board
        ],
    },
    {
        "name": "safety-videos",
        "policy": "seldom-read",
        "pool": "deepwater",
        "quota": "1 TiB",
        "labels": ["crew"],
        "protocols": ["nfs4.1", "smb"],
        "rules": [
            {"who": "10.30.9.0/24", "right": "read-write"},
            {"who": "everyone", "right": "none"},
        ],
    },
]
SIGNS_IN = {"share": "safety-videos", "user": "bridge-crew", "right": "read"}
MOUNTED = [
    ("chart-plotter", "charts", "/srv/sea-charts"),
    ("ferry-desk-1", "charts", "/srv/sea-charts"),
    ("ferry-desk-2", "charts", "/srv/sea-charts"),
    ("slipway", "safety-videos", "/srv/videos"),
]
WRITTEN = [
    ("chart-plotter", "/srv/sea-charts/edition-41", "96GiB"),
    ("slipway", "/srv/videos/drills", "860GiB"),
]
# Nobody has ever set up discovery there.
LEFT = {"ferry-desk-3": "discovered"}
# One before consumers work with it for a while, one after.
SHOWN = {"volume": "timetable", "snapshot": "before-the-update", "name": "timetable-before"}
SNAPSHOTS: list[dict[str, Any]] = [
    {"volumes": ["charts"], "name": "autumn-edition"},
    {"volumes": ["charts", "timetable"], "name": "before-the-update"},
]
DELETED = "winter-timetable"  # after it was used for a while


ROUTES = (  # who is told of alerts: whoever is on call of all, the team of ticketing of what is urgent
    {"name": "on call", "kind": "mail", "target": "tomas.reed@skerry.example", "usual": True},
    {
        "name": "ticketing team",
        "kind": "mail",
        "target": "ama.birch@skerry.example",
        "least": "urgent",
        "usual": False,
    },
)


class Demo:
    """Plays the platform engineer's part."""

    def __init__(self, url: str) -> None:
        self.client = httpx.Client(base_url=f"{url}/api", timeout=30.0, trust_env=False)

    def close(self) -> None:
        self.client.close()

    def fill(self) -> None:
        """Forms the cluster and the pools and makes the volumes, unless the site has pools already. Raises
        RuntimeError when a step does not end.
        """
        self.wait(lambda: self.barn()["counts"]["nodes"] >= NODES, "all nodes to report in")
        if self.barn()["counts"]["pools"]:
            return
        self.wait(
            lambda: all(n["clock_offset"] is not None for n in self.client.get("/machines").json()["nodes"]),
            "every node's clock",
        )
        self.client.post("/cluster/ports").raise_for_status()
        self.carry_out(
            "form-cluster", {**CLUSTER, "witness_url": self.client.get("/yard").json()["witness_url"]}
        )
        disks = [
            d
            for room in self.barn()["rooms"]
            for rack in room["racks"]
            for node in rack["nodes"]
            for d in node["disks"]
        ]
        for pool in POOLS:
            ours = {
                d["name"].rpartition("-")[0]
                for d in disks
                if d["media"] == pool["media"] and d["role"] != "boot"
            } - {"skua"}
            chosen = [
                d["name"]
                for d in disks
                if d["media"] in (pool["media"], "nvme")
                and d["fit"]
                and d["name"] not in pool["leave"]
                and d["name"].rpartition("-")[0] in ours
            ]
            params = {
                k: v for k, v in pool.items() if k in ("name", "copies", "headroom", "serves", "overrides")
            }
            self.carry_out("form-pool", {**params, "disks": chosen})
        for policy in POLICIES:
            self.carry_out("save-policy", policy)
        changes = [
            self.start("create-volume", {"name": name, "pool": pool, "size": size, "policy": policy})
            for name, pool, size, policy in VOLUMES
        ]
        for change in changes:
            self.await_end(change)
        for vm in VMS:
            self.carry_out("make-vm", vm)
        self.attach()
        self.share()
        self.offer()
        early, late = SNAPSHOTS
        self.carry_out("take-snapshot", early)
        self.apply(claim_text(*REHEARSAL, filled_from=TAKEN[1]))
        self.wait_for_claim(*REHEARSAL[:2], "bound")
        self.live(LIVED_SECONDS)
        self.carry_out("take-snapshot", late)
        self.carry_out("show-snapshot", SHOWN)
        self.carry_out("delete-volume", {"volume": DELETED, "typed": DELETED})
        for route in ROUTES:
            self.client.post("/watch/routes", json=route).raise_for_status()

    def attach(self) -> None:
        """Registers the hosts, attaches volumes to them, and does there what is said to be missing."""
        yard = self.client.get("/yard").raise_for_status().json()
        for host in yard["hosts"]:
            wish = {k: host[k] for k in ("name", "initiators", "agent_url")}
            self.carry_out("save-host", {**wish, "group": HOSTS[host["name"]]})
        for host in yard["hosts"]:
            if host["service_url"]:
                wish = {"host": host["name"], "url": host["service_url"], **VM_ACCOUNT}
                self.carry_out("connect-vm-host", wish)
        self.carry_out("power-on", SWITCHED_ON)
        for wish in ATTACHED:
            self.carry_out("attach-volume", wish)
        self.set_up([wish["volume"] for wish in ATTACHED], LEFT)

    def share(self) -> None:
        """Switches the file service on, makes shares, and has hosts mount and fill them."""
        server = self.client.get("/yard").raise_for_status().json()["name_server"]
        self.carry_out("serve-files", {**FILES, "name_server": server})
        for wish in SHARES:
            self.carry_out("make-share", wish)
        self.carry_out("let-user-in", SIGNS_IN)
        for host, name, at in MOUNTED:
            found = self.client.get(f"/shares/{name}").raise_for_status().json()
            how = next(one for one in found["how"] if one["protocol"] == "nfs4.1")
            commands = [command.replace(f"/mnt/{name}", at) for command in how["commands"]]
            for command in (*commands, f"echo '{how['table'].replace(f'/mnt/{name}', at)}' >> /etc/fstab"):
                self.run(host, command)
        for host, path, size in WRITTEN:
            self.run(host, f"fallocate -l {size} {path}")
        self.wait(
            lambda: all(s["mounts"] and s["used_bytes"] for s in self.client.get("/shares").json()),
            "the shares to be mounted and filled",
        )

    def run(self, host: str, command: str) -> None:
        """What is typed into a host's shell. Raises RuntimeError where it comes to nothing there."""
        answer = self.client.post("/yard", json={"lever": "run", "what": host, "text": command})
        if answer.is_error:
            raise RuntimeError(f"{host}: {command}: {answer.json().get('detail', answer.text)}")

    def offer(self) -> None:
        """Connects the orchestrator, publishes classes and grants policies; its people ask for volumes, and
        use them.
        """
        self.apply(self.client.get("/manifests/account.yaml").raise_for_status().text)
        self.wait(lambda: bool(self._orchestrator()["token"]), "the account's token")
        there = self._orchestrator()
        self.carry_out("connect-orchestrator", {k: there[k] for k in ("name", "url", "authority", "token")})
        self.apply(self._secret())
        for name in NAMESPACES:
            self.apply(f"{{apiVersion: v1, kind: Namespace, metadata: {{name: {name}}}}}")
        for wish in CLASSES:
            self.carry_out("publish-class", wish)
        for wish in GRANTS:
            self.carry_out("grant-policy", {**wish, "orchestrator": ORCHESTRATOR})
        for claim in CLAIMS:
            self.apply(claim_text(*claim))
        for pod in PODS:
            self.apply(pod_text(*pod))
        self.apply(set_text(*TIDES))
        bound = [("ticketing", "seat-ledger"), DROPPED, ("deck-cameras", "ring-buffer")]
        bound += [(TIDES[0], f"data-{TIDES[1]}-{number}") for number in range(TIDES[2])]
        for namespace, name in bound:
            self.wait_for_claim(namespace, name, "bound")
        self.apply(snapshot_text(*TAKEN))
        self.wait(lambda: self._is_taken(*TAKEN[:2]), f"{TAKEN[1]} to be taken")
        namespace, name, size = GROWN
        self.apply(claim_text(namespace, name, "steady-three", size))
        self.wait(lambda: self.claim(namespace, name)["volume_bytes"] >= 300 * 2**30, f"{name} to grow")
        self.pull("remove", f"PersistentVolumeClaim {'/'.join(DROPPED)}")
        self.wait_for_claim(*DROPPED, "kept aside")

    def _secret(self) -> str:
        """What hands the orchestrator's newest secret over, which is shown once."""
        found = self.client.get("/consumers").raise_for_status().json()["orchestrators"]
        [*_, newest] = next(one["secrets"] for one in found if one["name"] == ORCHESTRATOR)
        shown = self.client.post(f"/orchestrators/{ORCHESTRATOR}/secrets/{newest['name']}/show")
        return str(shown.raise_for_status().json()["manifest"])

    def _is_taken(self, namespace: str, name: str) -> bool:
        """Whether something was taken for a snapshot that was asked for in a namespace."""
        found = (
            self.client.get(f"/claims/{self.claim(namespace, TAKEN[2])['number']}").raise_for_status().json()
        )
        return any(s["there"] == f"{namespace}/{name}" and s["taken_at"] for s in found["snapshots"])

    def _orchestrator(self) -> dict[str, Any]:
        yard = self.client.get("/yard").raise_for_status().json()
        found: dict[str, Any] = next(one for one in yard["orchestrators"] if one["name"] == ORCHESTRATOR)
        return found

    def apply(self, text: str) -> None:
        """What the person does who runs the orchestrator, or works in a namespace."""
        self.pull("apply", text)

    def pull(self, lever: str, text: str) -> None:
        pulled = {"lever": lever, "what": ORCHESTRATOR, "text": text}
        self.client.post("/yard", json=pulled, timeout=60.0).raise_for_status()

    def claim(self, namespace: str, name: str) -> dict[str, Any]:
        """The newest of that name; raises LookupError before it was seen."""
        asked = {"namespace": namespace, "words": name}
        found = self.client.get("/claims", params=asked).raise_for_status().json()["claims"]
        mine: list[dict[str, Any]] = [one for one in found if one["name"] == name]
        return max(mine, key=lambda one: int(one["number"]))

    def wait_for_claim(self, namespace: str, name: str, life: str) -> None:
        def there() -> bool:
            try:
                return bool(self.claim(namespace, name)["life"] == life)
            except ValueError:
                return False

        self.wait(there, f"{namespace}/{name} to be {life}")

    def set_up(self, volumes: Sequence[str], left: Mapping[str, str]) -> None:
        """Does on the hosts of some volumes what is said to be missing there, and on each path that is. left:
        by host, the gate before which nothing more is done.
        """
        tried: dict[tuple[str, ...], float] = {}
        self.wait(lambda: self._nothing_missing(volumes, left, tried), "the hosts to be set up")

    def _nothing_missing(
        self, volumes: Sequence[str], left: Mapping[str, str], tried: dict[tuple[str, ...], float]
    ) -> bool:
        """Does one step more on each host; whether there was none to do. tried: when each was done; it takes
        a moment until that is found out.
        """
        done = True
        for volume in volumes:
            found = self.client.get(f"/volumes/{volume}/attachments").raise_for_status().json()
            for lane in found:
                step, paths = lane["missing"], [p["commands"] for p in lane["paths"] if p["commands"]]
                if step is not None and step["gate"] == left.get(lane["host"]):
                    continue
                commands = step["commands"] if step is not None else [c for path in paths for c in path]
                if step is None and not commands:
                    continue
                done, now, one = False, time.monotonic(), (lane["volume"], lane["host"], *commands)
                if now - tried.get(one, 0.0) < AGAIN_SECONDS:
                    continue
                tried[one] = now
                for command in commands:
                    self.client.post("/yard", json={"lever": "run", "what": lane["host"], "text": command})
        return done

    def live(self, seconds: float) -> None:
        """Lets consumers use what they were given for a while, in the stand-ins' own time."""
        before = self.client.get("/yard").raise_for_status().json()
        lasting = {"lever": "speed", "speed": FAST, "lasts": seconds}
        self.client.post("/yard", json=lasting).raise_for_status()
        self.wait(
            lambda: self.client.get("/yard").json()["clock_seconds"] - before["clock_seconds"] >= seconds,
            "the stand-ins to live a while",
        )
        self.wait(
            lambda: any(v["written_bytes"] for v in self.client.get("/volumes").json()["volumes"]),
            "what they wrote to be summed up",
        )

    def barn(self) -> dict[str, Any]:
        found: dict[str, Any] = self.client.get("/barn").raise_for_status().json()
        return found

    def start(self, kind: str, params: dict[str, Any]) -> int:
        answer = self.client.post(
            "/changes", json={"kind": kind, "params": params, "reason": "Setting up the demo"}
        )
        if answer.is_error:
            raise RuntimeError(f"{kind} {params.get('name')}: {answer.json().get('detail', answer.text)}")
        number: int = answer.json()["number"]
        return number

    def carry_out(self, kind: str, params: dict[str, Any]) -> None:
        self.await_end(self.start(kind, params))

    def await_end(self, change: int) -> None:
        """Where it pauses, it is let go on a few times, as a person would: a busy machine is no reason to
        give up. Raises RuntimeError.
        """
        went_on = 0

        def ended() -> bool:
            nonlocal went_on
            found = self.client.get(f"/changes/{change}").raise_for_status().json()
            if found["state"] == "paused":
                if went_on == GO_ON:
                    raise RuntimeError(f"{found['title']} paused: {found['problem']}")
                went_on += 1
                self.client.post(f"/changes/{change}/ask", json={"what": "resume"}).raise_for_status()
            return bool(found["state"] == "done")

        self.wait(ended, f"change {change}")

    def wait(
        self, done: Callable[[], bool], what: str, seconds: float = WAIT_SECONDS, pause: float = 0.1
    ) -> None:
        deadline = time.monotonic() + seconds
        while not done():
            if time.monotonic() > deadline:
                raise RuntimeError(f"Waited {seconds:.0f} s for {what}.")
            time.sleep(pause)


def snapshot_text(namespace: str, name: str, claim: str) -> str:
    """A snapshot of a claim."""
    return f"""
apiVersion: snapshot.storage.k8s.io/v1
kind: VolumeSnapshot
metadata: {{name: {name}, namespace: {namespace}}}
spec: {{source: {{persistentVolumeClaimName: {claim}}}}}
"""


def claim_text(namespace: str, name: str, storage_class: str, size: str, filled_from: str = "") -> str:
    """A claim, as its manifest says it. filled_from: the name of a snapshot."""
    source = "{apiGroup: snapshot.storage.k8s.io, kind: VolumeSnapshot, name: " + filled_from + "}"
    filled = f"  dataSource: {source}\n" if filled_from else ""
    return f"""
apiVersion: v1
kind: PersistentVolumeClaim
metadata: {{name: {name}, namespace: {namespace}}}
spec:
  storageClassName: {storage_class}
  accessModes: [ReadWriteOnce]
  resources: {{requests: {{storage: {size}}}}}
{filled}"""


def pod_text(namespace: str, name: str, claim: str) -> str:
    """A pod that uses a claim."""
    return f"""
apiVersion: v1
kind: Pod
metadata: {{name: {name}, namespace: {namespace}}}
spec:
  containers:
  - name: main
    image: registry.example/{name}:1
    volumeMounts: [{{name: data, mountPath: /srv/data}}]
  volumes:
  - name: data
    persistentVolumeClaim: {{claimName: {claim}}}
"""


def set_text(namespace: str, name: str, replicas: int, storage_class: str, size: str) -> str:
    """A set of pods, each of which has a claim of its own."""
    return f"""
apiVersion: apps/v1
kind: StatefulSet
metadata: {{name: {name}, namespace: {namespace}}}
spec:
  serviceName: {name}
  replicas: {replicas}
  selector: {{matchLabels: {{app: {name}}}}}
  template:
    metadata: {{labels: {{app: {name}}}}}
    spec:
      containers:
      - name: main
        image: registry.example/{name}:1
        volumeMounts: [{{name: data, mountPath: /srv/data}}]
  volumeClaimTemplates:
  - metadata: {{name: data}}
    spec:
      storageClassName: {storage_class}
      accessModes: [ReadWriteOnce]
      resources: {{requests: {{storage: {size}}}}}
"""
