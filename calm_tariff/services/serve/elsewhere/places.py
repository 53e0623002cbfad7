"""What calls of other gateways are placed by, read from the database in a few queries: credentials, operations, stays
and meters.

Source: docs/arithmetic.md, sections 1 and 6.
"""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import meters
from calm_tariff.core.meters import Environment
from calm_tariff.core.paths import Router
from calm_tariff.core.periods import day_start, instant_of
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.compose.meters import rule_of
from calm_tariff.services.serve import grants
from calm_tariff.services.serve.elsewhere.placing import Places, Version, Whose
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.record import Stamp
from calm_tariff.store.compose.apis import ApiVersion
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import ProductOperation
from calm_tariff.store.serve.instances import Instance


def now(session: Session, ctx: Context) -> Places:
    """Everything calls are placed by, as it is now."""
    stamp = session.get(Stamp, stamps.SNAPSHOT, populate_existing=True)
    by_application: dict[int, list[grants.Grant]] = {}
    for grant in grants.of_all(session):
        by_application.setdefault(grant.application_id, []).append(grant)
    sold: dict[int, set[int]] = {}
    for product, operation in session.execute(select(ProductOperation)):
        sold.setdefault(product, set()).add(operation)
    active = select(Meter).where(Meter.state == "active").options(selectinload(Meter.operations))
    provider = provider_of(session)
    return Places(
        number=stamp.number if stamp else 0,
        kept_from_us=day_start(provider.calls_from, zone_of(session)) if provider.calls_from else 0,
        now_us=ctx.now_us,
        ours=frozenset(session.scalars(select(Instance.name).where(Instance.kind == "gateway"))),
        trials=frozenset(session.scalars(select(Subscription.id).where(Subscription.state == "trial"))),
        keys=_keys(session),
        applications=_applications(session),
        versions=_versions(session),
        grants=by_application,
        sold={product: frozenset(operations) for product, operations in sold.items()},
        meters=[(meter.id, rule_of(meter), instant_of(meter.created_at)) for meter in session.scalars(active)],
    )


def unchanged(session: Session, known: Places) -> bool:
    """Whether calls would still be placed as they were."""
    number = session.scalar(select(Stamp.number).where(Stamp.name == stamps.SNAPSHOT))
    return (number or 0) == known.number


def _applications(session: Session) -> dict[str, Whose]:
    query = select(Application.id, Application.client_id, Application.consumer_id, Application.environment)
    return {
        client: Whose(application, client, consumer, _environment(environment), None, meters.CREDENTIALS[0])
        for application, client, consumer, environment in session.execute(query)
    }


def _keys(session: Session) -> dict[str, list[Whose]]:
    """Keys by how they are shown: by their beginning; a client id's secret by the client id, too."""
    query = select(
        ApiKey.prefix,
        ApiKey.id,
        ApiKey.environment,
        ApiKey.kind,
        Application.id,
        Application.client_id,
        Application.consumer_id,
    ).join(Application, Application.id == ApiKey.application_id)
    found: dict[str, list[Whose]] = {}
    for prefix, key, environment, kind, application, client, consumer in session.execute(query.order_by(ApiKey.id)):
        credential = "key" if kind == "key" else "client"
        whose = Whose(application, client, consumer, _environment(environment), key, credential)
        found.setdefault(prefix, []).append(whose)
    return found


def _environment(text: str) -> Environment:
    return "sandbox" if text == "sandbox" else "live"


def _versions(session: Session) -> list[Version]:
    """Versions that answer or did, with retired operations behind those that took their paths; the longest base path
    first."""
    query = select(ApiVersion).where(ApiVersion.state != "draft").options(selectinload(ApiVersion.operations))
    found = []
    for version in session.scalars(query):
        operations = sorted(version.operations, key=lambda o: (o.retired_at is None, o.id))
        router = Router([(o.id, o.method, o.path) for o in operations])
        name = f"{version.api.name} {version.version}"
        found.append(Version(version.id, name, version.base_path, version.chosen_by == "path", router))
    return sorted(found, key=lambda version: (-len(version.base), version.id))
