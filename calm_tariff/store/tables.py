"""Every table, for migrations and for those who need the whole schema."""

from calm_tariff.store.admit import (
    applications,
    cards,
    client_packages,
    community,
    consumers,
    identities,
    imports,
    looking,
    portals,
    requests,
    subscriptions,
    tokens,
)
from calm_tariff.store.base import events, jobs, notices, provider, record
from calm_tariff.store.base.columns import Base
from calm_tariff.store.compose import apis, groups, house_limits, issuers, meters, products, release_notes
from calm_tariff.store.house import endpoints, people, service_tokens
from calm_tariff.store.house import identities as house_identities
from calm_tariff.store.observe import alerts
from calm_tariff.store.serve import instances, outside_usage, strikes, usage
from calm_tariff.store.settle import (
    accounts,
    bank,
    books,
    bundles,
    card_attempts,
    document_files,
    handoff,
    journal,
    money_documents,
    reckoned_months,
)

metadata = Base.metadata

__all__ = [
    "accounts",
    "alerts",
    "apis",
    "applications",
    "bank",
    "books",
    "bundles",
    "card_attempts",
    "cards",
    "client_packages",
    "community",
    "consumers",
    "document_files",
    "endpoints",
    "events",
    "groups",
    "handoff",
    "house_identities",
    "house_limits",
    "identities",
    "imports",
    "instances",
    "issuers",
    "jobs",
    "journal",
    "looking",
    "metadata",
    "meters",
    "money_documents",
    "notices",
    "outside_usage",
    "people",
    "portals",
    "products",
    "provider",
    "reckoned_months",
    "record",
    "release_notes",
    "requests",
    "service_tokens",
    "strikes",
    "subscriptions",
    "tokens",
    "usage",
]
