"""The demo as data: the office, its people, and the shapes that offers and callers come in. All invented."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from calm_tariff.core import portals
from calm_tariff.core.meters import Measure
from calm_tariff.core.routes import Step
from calm_tariff.services.house.installation import ProviderTyped

PASSWORD = "larkmouth-demo"
DAYS = 100
SEED = 20260815

PROVIDER = ProviderTyped(
    name="Larkmouth Tide Office",
    time_zone="Europe/Lisbon",
    currency="EUR",
    tax_percent=Decimal(23),
    mail_from="access@larkmouth.example",
    address="Harbour House, 1 Pier Road\n4900-001 Larkmouth",
    iban="PT50000201231234567890154",
    country="PT",
    tax_number="PT599999993",
)

STAFF = (
    ("ines@larkmouth.example", "Ines", ("product manager", "owner")),
    ("rui@larkmouth.example", "Rui", ("reviewer",)),
    ("tomas@larkmouth.example", "Tomas", ("operations",)),
    ("beatriz@larkmouth.example", "Beatriz", ("finance",)),
    ("helena@larkmouth.example", "Helena", ("finance",)),
)


@dataclass(frozen=True, slots=True)
class DemoApi:
    """An API version to bring in from `documents/`; `{standins}` in the back end is filled in at loading."""

    name: str
    version: str
    document: str
    base_path: str
    back_end: str
    health_path: str
    capacity: int
    sandbox: bool = False
    sunset_after_days: int | None = None


@dataclass(frozen=True, slots=True)
class DemoMeter:
    """A meter by the operations it counts."""

    name: str
    operations: tuple[str, ...]
    measure: Measure = "calls"
    header: str | None = None


@dataclass(frozen=True, slots=True)
class DemoPlan:
    """A plan: its terms as first published, later ones by day, and a draft now; `group` if only it sees it."""

    name: str
    terms: dict[str, Any]
    later: tuple[tuple[int, dict[str, Any]], ...] = ()
    draft: dict[str, Any] | None = None
    group: str | None = None


@dataclass(frozen=True, slots=True)
class DemoProduct:
    """A product with its plans. `calls` says how often each operation is called, as weights."""

    name: str
    description: str
    terms_of_use: str
    access: Step
    calls: Mapping[str, int]
    plans: tuple[DemoPlan, ...]
    newer_terms: str = ""


@dataclass(frozen=True, slots=True)
class Traffic:
    """How an application calls: mean calls a day, by weekday and hour, and bursts of so many at once."""

    daily: int
    weekend: float = 1.0
    hours: tuple[int, int] = (6, 22)
    burst: int = 0
    burst_days: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class DemoApplication:
    """An application that has `offer` (`Product · Plan`) from `from_day` on. `outcome`: granted, declined
    or waiting; `expected`: the units of a month that are, by meter."""

    name: str
    offer: str
    purpose: str
    traffic: Traffic | None = None
    from_day: int = 0
    outcome: str = "granted"
    note: str = ""
    keys: int = 1
    expected: tuple[tuple[str, Decimal], ...] = ()


@dataclass(frozen=True, slots=True)
class DemoConsumer:
    """A consumer with its owner and applications, the group it is in, if any, the portal it came by,
    whether it waits to be let in, and what its books know its purchase by."""

    name: str
    owner: str
    email: str
    applications: tuple[DemoApplication, ...] = field(default=())
    group: str | None = None
    portal: str = portals.FIRST
    waits: bool = False
    order_number: str = ""
