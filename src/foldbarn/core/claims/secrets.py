"""Secrets by which the nodes of an orchestrator prove to storage nodes whose they are: a name and a secret
that both sides know (CHAP, RFC 7143, sections 9.2.1 and 12.1.3), handed over as an object of the Kubernetes
API.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from foldbarn.core.claims.rights import ACCOUNT
from foldbarn.core.hosts.gateways import portals_of
from foldbarn.core.site import Contact, Host, SiteView
from foldbarn.core.units import say_count

if TYPE_CHECKING:
    from foldbarn.core.claims.kept import Orchestrator, Secret

SECRET = "fold-barn-storage"  # the object's name; it lives in the namespace of the account
CHAP_TYPE = "kubernetes.io/iscsi-chap"
USER, PASSWORD = "node.session.auth.username", "node.session.auth.password"
SERVICE, KEEPERS = "service-address", "keepers"
MOST_SECRETS = 2  # of an orchestrator: one, and the one that is to replace it

REFERENCE: Mapping[str, str] = {"name": SECRET, "namespace": ACCOUNT}
# 16 characters, as every initiator and target can take them, of which each is one of 64: 96 bits, the least
# that may be without IPsec (RFC 7143, section 9.2.1).
SECRET_BYTES = 12


@dataclass(frozen=True, slots=True)
class Answers:
    """Where a site's cluster answers: its service address, and an address of each keeper by its name; empty
    where there is no cluster.
    """

    service: str
    keepers: Mapping[str, str]


def where_it_answers(view: SiteView) -> Answers:
    cluster = view.cluster
    if cluster is None or cluster.forming:
        return Answers("", {})
    keepers = {node.name: portals_of(node) for node in view.nodes if node.member and node.keeper}
    found = {name: portals[0].address for name, portals in keepers.items() if portals}
    return Answers(cluster.service_address.split("/")[0], found)


def secret_object(name: str, secret: str, answers: Answers) -> dict[str, Any]:
    """What is applied in an orchestrator so that its nodes are let in. secret: in the clear."""
    said = {USER: name, PASSWORD: secret}
    if answers.service:
        said |= {SERVICE: answers.service, KEEPERS: ",".join(answers.keepers.values())}
    return {
        "apiVersion": "v1",
        "kind": "Secret",
        "metadata": {"name": SECRET, "namespace": ACCOUNT},
        "type": CHAP_TYPE,
        "stringData": said,
    }


def names_secret(volume: Mapping[str, Any]) -> bool:
    """Whether the object of a volume says that nodes need the secret to reach it."""
    source = (volume.get("spec") or {}).get("csi") or {}
    return bool((source.get("nodeStageSecretRef") or {}).get("name") == SECRET)


def by_secret(view: SiteView, orchestrator: int) -> tuple[int, int]:
    """How many volumes of an orchestrator's claims (by number) ask nodes for a secret, and how many are
    reached by a node's name alone.
    """
    mine = [kept for kept in view.claims if kept.orchestrator == orchestrator and kept.volume is not None]
    asking = sum(kept.by_secret for kept in mine)
    return asking, len(mine) - asking


def said_of_secrets(view: SiteView, found: Orchestrator) -> str:
    """What follows from the secrets that an orchestrator has, for its nodes."""
    asking, plain = by_secret(view, found.number)
    if found.secrets:
        words = "By one of these its nodes prove that they may reach the volumes of its claims."
    elif asking:
        return f"None is good: no node is let in to {say_count(asking, 'volume')} of its claims."
    else:
        return "It has none: its nodes reach the volumes of its claims by their names alone."
    return f"{words} {said_of_plain(plain)}".strip()


def said_of_plain(plain: int) -> str:
    """Of volumes that were given before there was a secret; empty where there are none."""
    if not plain:
        return ""
    counted = f"{say_count(plain, 'volume')} that it was given before {'is' if plain == 1 else 'are'}"
    return f"{counted} reached by name alone."


def connected_by(view: SiteView, secret: Secret) -> list[Host]:
    """The hosts that are connected by a secret, as far as nodes that are heard tell."""
    proved = {
        own
        for node in view.nodes
        if node.contact == Contact.HEARD
        for own, by in node.serving.proved
        if by == secret.name
    }
    return [host for host in view.hosts if proved.intersection(one.name for one in host.initiators)]
