"""Consumers in orchestrators: what the API has."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import PlainTextResponse

from foldbarn.api.common import Number, person
from foldbarn.api.consumers.models import (
    AskedClaims,
    ClaimPage,
    ClaimsOut,
    ConsumersOut,
    ManifestsIn,
    ManifestsOut,
    ShownSecret,
    TeamPage,
)
from foldbarn.api.consumers.pictures import (
    as_yaml,
    claim_page,
    claims_out,
    classes_written,
    consumers_out,
    manifests_out,
    namespace_written,
    team_page,
)
from foldbarn.core.claims.classes import check_namespace
from foldbarn.core.claims.rights import manifests
from foldbarn.core.touching import Thing
from foldbarn.services import secrets, site
from foldbarn.store import changes as changes_kept
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

routes = APIRouter()
HISTORY = 20  # changes, the newest


@routes.get("/consumers")
def consumers() -> ConsumersOut:
    """Orchestrators, their namespaces with what was granted to each, and classes."""
    return consumers_out(site.outlook())


@routes.get("/claims")
def claims(asked: Annotated[AskedClaims, Query()]) -> ClaimsOut:
    """The claims of which all that is asked is true, page by page."""
    return claims_out(site.outlook(), asked)


@routes.get("/claims/{number}")
def claim(number: Number) -> ClaimPage:
    """A claim, with what hangs on it both ways."""
    outlook = site.outlook()
    with transaction() as session:
        found = changes_kept.that_touched(session, [Thing.CLAIM], number, HISTORY)
        volume = outlook.view.claim_numbered(number).volume
        if volume is not None:
            of_volume = [Thing.VOLUME, Thing.TARGET]
            found = [*found, *changes_kept.that_touched(session, of_volume, volume, HISTORY)]
        newest = sorted({row.id: row for row in found}.values(), key=lambda row: -row.id)
        return claim_page(outlook, number, newest[:HISTORY])


@routes.get("/orchestrators/{orchestrator}/namespaces/{namespace}")
def namespace(orchestrator: str, namespace: str) -> TeamPage:
    """A namespace, as who works there sees it."""
    return team_page(site.outlook(), orchestrator, namespace)


@routes.post("/orchestrators/{orchestrator}/secrets/{name}/show")
def show(orchestrator: str, name: str) -> ShownSecret:
    """A secret in the clear, with the manifest that hands it over. It is shown once: whoever asks again is
    refused, and told who has seen it.
    """
    shown = secrets.show(person(), orchestrator, name)
    return ShownSecret(name=shown.name, secret=shown.secret, manifest=as_yaml([shown.thing]))


@routes.post("/manifests")
def would(asked: ManifestsIn) -> ManifestsOut:
    """What would become of what manifests ask for. Nothing is altered."""
    return manifests_out(current_view(), asked)


class YamlResponse(PlainTextResponse):
    """RFC 9512."""

    media_type = "application/yaml"


@routes.get("/manifests/account.yaml", response_class=YamlResponse)
def account() -> YamlResponse:
    """What is applied in an orchestrator so that Fold Barn may do what it takes there, and nothing else."""
    kept = {"Content-Disposition": 'attachment; filename="fold-barn-account.yaml"'}
    return YamlResponse(as_yaml(manifests()), headers=kept)


@routes.get("/manifests/classes.yaml", response_class=YamlResponse)
def classes() -> YamlResponse:
    """All classes that are published, as they appear in an orchestrator."""
    kept = {"Content-Disposition": 'attachment; filename="fold-barn-classes.yaml"'}
    return YamlResponse(classes_written(current_view()), headers=kept)


@routes.get(
    "/orchestrators/{orchestrator}/namespaces/{namespace}/manifests.yaml", response_class=YamlResponse
)
def written(orchestrator: str, namespace: str) -> YamlResponse:
    """Several documents: a quota, the classes that may be asked for, the claims and their volumes."""
    text = namespace_written(current_view(), orchestrator, namespace)
    kept = {"Content-Disposition": f'attachment; filename="{check_namespace(namespace)}.yaml"'}
    return YamlResponse(text, headers=kept)
