"""The cluster: what the API has."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response

from foldbarn.api.cluster.models import (
    ClusterPage,
    PassphraseIn,
    PortsTested,
    ProposalOut,
    WitnessIn,
    WitnessOut,
)
from foldbarn.api.cluster.pictures import cluster_out
from foldbarn.api.common import person
from foldbarn.core.cluster.proposing import propose
from foldbarn.services import cluster
from foldbarn.store.views import current_view

routes = APIRouter()


@routes.get("/cluster")
def read_cluster() -> ClusterPage:
    """The cluster, its votes, and who reaches what."""
    return cluster_out(current_view())


@routes.get("/cluster/proposal")
def proposal(members: Annotated[list[str], Query(max_length=5000)], witness: str = "") -> ProposalOut:
    """Keepers and a service address for a cluster of these members; witness: the name of one that answers."""
    return ProposalOut.model_validate(propose(current_view(), members, witness), from_attributes=True)


@routes.post("/cluster/ports")
def test_ports() -> PortsTested:
    """Has the agents try every opening of the port plan."""
    return PortsTested(tries=cluster.try_ports(person()))


@routes.post("/cluster/passphrase", status_code=204)
def passphrase(wish: PassphraseIn) -> Response:
    """Whether a passphrase opens the cluster's key: 204 when it does, 403 when not."""
    cluster.try_passphrase(wish.passphrase)
    return Response(status_code=204)


@routes.post("/witness")
def witness(wish: WitnessIn) -> WitnessOut:
    """The name of the witness at an address."""
    return WitnessOut(name=cluster.ask_witness(wish.url))
