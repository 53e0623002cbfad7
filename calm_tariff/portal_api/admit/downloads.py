"""What developers take along of a product."""

from __future__ import annotations

from fastapi import APIRouter, Response
from fastapi.responses import JSONResponse

from calm_tariff.edge import attachment
from calm_tariff.edge.again import Again
from calm_tariff.formats.client_packages import Language
from calm_tariff.formats.openapi_excerpt import as_yaml
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit.portals import clients, downloads
from calm_tariff.services.admit.portals.clients import ClientState
from calm_tariff.services.admit.portals.downloads import VersionToTake

router = APIRouter(route_class=Again)


@router.get("/products/{slug}/versions")
def versions(ctx: Asking, slug: str) -> list[VersionToTake]:
    """The versions that a product sells."""
    return downloads.versions(ctx, slug)


@router.get("/products/{slug}/versions/{version_id}/openapi.json")
def openapi_json(ctx: Asking, slug: str, version_id: int) -> JSONResponse:
    """The OpenAPI document of what a product sells of a version."""
    document = downloads.openapi(ctx, slug, version_id, ctx.gateway_address)
    return JSONResponse(document, headers=attachment.named(f"{slug}-{version_id}.json"))


@router.get("/products/{slug}/versions/{version_id}/openapi.yaml")
def openapi_yaml(ctx: Asking, slug: str, version_id: int) -> Response:
    """The same as YAML (RFC 9512)."""
    text = as_yaml(downloads.openapi(ctx, slug, version_id, ctx.gateway_address))
    return Response(text, media_type="application/yaml", headers=attachment.named(f"{slug}-{version_id}.yaml"))


@router.get("/products/{slug}/versions/{version_id}/clients")
def client_states(ctx: Asking, slug: str, version_id: int) -> list[ClientState]:
    """How far the generated clients are of what a product sells of a version."""
    return clients.states(ctx, slug, version_id, ctx.gateway_address)


@router.post("/products/{slug}/versions/{version_id}/clients/{language}", status_code=202)
def ask_for_client(ctx: Asking, slug: str, version_id: int, language: Language) -> ClientState:
    """Have a client made."""
    return clients.ask(ctx, slug, version_id, ctx.gateway_address, language)


@router.get("/products/{slug}/versions/{version_id}/clients/{language}/package.zip")
def client_package(ctx: Asking, slug: str, version_id: int, language: Language) -> Response:
    """A client that is made, as a ZIP archive of a package that installs."""
    name, content = clients.take(ctx, slug, version_id, ctx.gateway_address, language)
    return Response(content, media_type="application/zip", headers=attachment.named(name))


@router.get("/products/{slug}/calls.har")
def calls(ctx: Asking, slug: str) -> JSONResponse:
    """A call of each operation of a product, as an HTTP archive (HAR 1.2)."""
    return JSONResponse(downloads.calls(ctx, slug, ctx.gateway_address), headers=attachment.named(f"{slug}.har"))
