"""Two people at one request: whoever is later is told, and sees what it is by now."""

from __future__ import annotations

from calm_tariff.core.errors import Stale
from calm_tariff.services.admit.desk.views import view
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.requests import AccessRequest


def refuse_stale(ctx: Context, request: AccessRequest, edition: int | None) -> None:
    """Refuse what was decided on an earlier edition of a request than this one. Raises `Stale`."""
    if edition is not None and edition != request.edition:
        raise Stale("somebody has done something with this request meanwhile", "the request", view(request, ctx.now))
