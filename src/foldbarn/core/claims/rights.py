"""What Fold Barn has to be allowed to do in an orchestrator, and the objects by which somebody who runs that
allows it (Kubernetes API, rbac.authorization.k8s.io/v1).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

ACCOUNT = "fold-barn"  # and the namespace that it lives in
TOKEN = "fold-barn-token"
READ = ("get", "list", "watch")


@dataclass(frozen=True, slots=True)
class Right:
    """To do something to all things of a kind. group: empty for the core one; why: a sentence."""

    group: str
    resource: str
    verbs: tuple[str, ...]
    why: str

    @property
    def rule(self) -> dict[str, list[str]]:
        """As a role has it."""
        return {"apiGroups": [self.group], "resources": [self.resource], "verbs": list(self.verbs)}

    @property
    def line(self) -> str:
        """The same, as it is written under the rules of a role."""
        verbs = ", ".join(self.verbs)
        return f'- {{apiGroups: ["{self.group}"], resources: ["{self.resource}"], verbs: [{verbs}]}}'


_STORAGE, _SNAPSHOT = "storage.k8s.io", "snapshot.storage.k8s.io"
# The least that it takes: nothing is read or written for which no sentence here says why.
RIGHTS = (
    Right("", "namespaces", READ, "To show which there are, and whose claims are whose."),
    Right("", "nodes", READ, "To know which of the hosts are its nodes."),
    Right("", "pods", READ, "To show what uses a claim."),
    Right("", "persistentvolumeclaims", (*READ, "patch"), "To see what is asked for, and to let it grow."),
    Right("", "persistentvolumeclaims/status", ("patch",), "To tell when it has grown."),
    Right("", "persistentvolumes", (*READ, "create", "patch", "delete"), "To hand over volumes."),
    Right("", "events", ("create", "patch"), "To tell why a claim waits."),
    Right(_STORAGE, "storageclasses", (*READ, "create", "patch", "delete"), "To publish classes."),
    Right(_STORAGE, "csidrivers", ("get", "create", "patch"), "To say that volumes are attached by it."),
    Right(_STORAGE, "csinodes", READ, "To know which nodes can use volumes."),
    Right(_STORAGE, "volumeattachments", (*READ, "patch"), "To attach volumes to nodes."),
    Right(_STORAGE, "volumeattachments/status", ("patch",), "To tell when one is attached."),
    Right(
        _SNAPSHOT, "volumesnapshotclasses", (*READ, "create", "patch"), "To publish how to take snapshots."
    ),
    Right(_SNAPSHOT, "volumesnapshots", READ, "To find what a claim is to be filled from."),
    Right(_SNAPSHOT, "volumesnapshotcontents", (*READ, "patch"), "To see which snapshots are asked for."),
    Right(_SNAPSHOT, "volumesnapshotcontents/status", ("patch",), "To tell when one is taken."),
)


def one_by_one(rights: Iterable[Right] = RIGHTS) -> list[Right]:
    """Each with a single verb, as an orchestrator is asked whether it has been given."""
    return [Right(one.group, one.resource, (verb,), one.why) for one in rights for verb in one.verbs]


def together(rights: Iterable[Right]) -> list[Right]:
    """Those of one kind of thing as one, in the order in which they come first."""
    verbs: dict[tuple[str, str, str], list[str]] = {}
    for one in rights:
        verbs.setdefault((one.group, one.resource, one.why), []).extend(one.verbs)
    return [Right(group, resource, tuple(mine), why) for (group, resource, why), mine in verbs.items()]


def manifests() -> list[dict[str, Any]]:
    """What is to be applied so that Fold Barn may do all that and nothing else: an account with its token."""
    named = {"name": ACCOUNT}
    here = {**named, "namespace": ACCOUNT}
    role = {"apiGroup": "rbac.authorization.k8s.io", "kind": "ClusterRole", "name": ACCOUNT}
    return [
        {"apiVersion": "v1", "kind": "Namespace", "metadata": named},
        {"apiVersion": "v1", "kind": "ServiceAccount", "metadata": here},
        {
            "apiVersion": "rbac.authorization.k8s.io/v1",
            "kind": "ClusterRole",
            "metadata": named,
            "rules": [one.rule for one in RIGHTS],
        },
        {
            "apiVersion": "rbac.authorization.k8s.io/v1",
            "kind": "ClusterRoleBinding",
            "metadata": named,
            "roleRef": role,
            "subjects": [{"kind": "ServiceAccount", **here}],
        },
        {
            "apiVersion": "v1",
            "kind": "Secret",
            "metadata": {
                "name": TOKEN,
                "namespace": ACCOUNT,
                "annotations": {"kubernetes.io/service-account.name": ACCOUNT},
            },
            "type": "kubernetes.io/service-account-token",
        },
    ]
