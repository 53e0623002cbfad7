"""How the demo serves: who shows what, which back ends are told who calls, what anyone may try, and a limit made for
one subscription."""

from __future__ import annotations

from datetime import timedelta

from calm_tariff.services.admit import overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose import issuers, products, strangers
from calm_tariff.services.compose.apis import forwarding, operations, versions
from calm_tariff.services.compose.apis.views import ForwardingTyped
from calm_tariff.services.compose.issuers import IssuerTyped
from calm_tariff.services.compose.products import CredentialsTyped
from calm_tariff.services.observe import consumers
from calm_tariff.store.base.paging import PageQuery

OVERRIDDEN = "Driftline Apps"


def serve_as_told(manager: Context, standins: str) -> None:
    """Say how calls are served, as the product manager did lately."""
    issuers.add(
        manager,
        IssuerTyped(
            name="Coast identity",
            issuer=f"{standins}/issuer",
            jwks_url=f"{standins}/issuer/jwks.json",
            audience="larkmouth",
            algorithms=("ES256", "RS256"),
            claim="application",
        ),
    )
    watch = next(p for p in products.summaries(manager) if p.name == "Sea Watch")
    edition = products.one(manager, watch.id).edition
    products.set_credentials(manager, watch.id, edition, CredentialsTyped(("key", "client", "token")))
    berths = next(v for v in versions.summaries(manager) if v.name == "Berths")
    forwarding.change(
        manager,
        berths.id,
        versions.one(manager, berths.id).edition,
        ForwardingTyped(answer_ms=5000, passes_caller=True, cors_origins=["https://maps.larkmouth.example"]),
    )
    tides = next(v for v in versions.summaries(manager) if (v.name, v.version) == ("Tides", "v2"))
    tried = [o.id for o in operations.page(manager, tides.id).operations]
    strangers.let_anyone_try(manager, tides.id, tried, True)
    (consumer,) = consumers.listed(manager, PageQuery(words=OVERRIDDEN)).rows
    held = next(h for h in overrides.held_by(manager, consumer.id) if h.limit["kind"] == "rate")
    overrides.make(
        manager,
        held.subscription_id,
        OverrideTyped(
            {**held.limit, "burst": 80},
            "A regatta this week; its organiser asked in time.",
            (manager.now + timedelta(days=6)).date(),
        ),
    )
