"""A small made-up provider, built by the services people use."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any

from sqlalchemy import select

from calm_tariff.core.ids import call_id
from calm_tariff.core.payment import Payment
from calm_tariff.core.periods import calendar_window, instant_of, subscription_window
from calm_tariff.core.portals import Brand
from calm_tariff.core.routes import Route
from calm_tariff.services.admit import applications, carrying_over, credentials, paying, sign_up
from calm_tariff.services.admit.carrying_over import Existing
from calm_tariff.services.admit.desk import asking, deciding
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.portals import portals
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base.context import ROLES, Actor, Context, zone_of
from calm_tariff.services.compose import meters, products
from calm_tariff.services.compose.apis import operations, versions
from calm_tariff.services.compose.apis.operations import OperationTyped
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.compose.products import ProductTyped
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from calm_tariff.services.compose.sheet.tariff_sheet import Sheet
from calm_tariff.services.house import installation
from calm_tariff.services.house.installation import ProviderTyped
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.services.serve import standing
from calm_tariff.store.admit.subscriptions import Stay
from calm_tariff.store.compose.products import Plan, PlanDraft

PASSWORD = "a long password"
START = datetime(2026, 9, 10, 12, tzinfo=UTC)
BY_TRANSFER = Payment(method="transfer")

# What a history need not know of a call.
UNSAID: dict[str, Any] = {
    "credential": "key",
    **dict.fromkeys(("decide_us", "back_end_us", "reserved", "decided_us", "decided_order"), 0),
    **{name: {} for name in ("carried", "counted", "reported", "sent")},
    "remarks": [],
    **dict.fromkeys(("outside_id", "usage_file_id", "strike_id")),
}


class Clock:
    """A clock that stands until it is moved."""

    def __init__(self, now: datetime = START) -> None:
        self.now = now

    def __call__(self) -> datetime:
        return self.now

    def forward(self, **by: int) -> None:
        self.now += timedelta(**by)


def terms(
    calls: int = 10, burst: int = 20, units: int = 100, when_spent: str = "refuse", fee: str = "40"
) -> dict[str, Any]:
    """Terms with a rate, a monthly quota, a fee and a graduated price."""
    return {
        "limits": [
            {"kind": "rate", "name": "Rate", "counted_per": "key", "calls": calls, "per_seconds": 1, "burst": burst},
            {
                "kind": "quota",
                "name": "Forecast calls",
                "counted_per": "subscription",
                "units": units,
                "every": "month",
                "aligned": "calendar",
                "when_spent": when_spent,
                "meter": "forecast_calls",
            },
        ],
        "pricing": {
            "prices": [
                {"kind": "fee", "amount": fee},
                {
                    "kind": "usage",
                    "meter": "forecast_calls",
                    "model": "graduated",
                    "included": "10",
                    "tiers": [{"up_to": "20", "unit": "0.004"}, {"up_to": None, "unit": "0.003"}],
                },
            ],
            "prorate": True,
        },
    }


@dataclass
class Consumer:
    """A consumer that has a key for a plan."""

    member: Actor
    email: str
    application: int
    key: int
    secret: str
    request: int
    subscription: int
    stay: int
    revision: int


@dataclass
class Office:
    """The provider, its people as contexts, and ids of what it has."""

    ctx: Context
    clock: Clock
    api: int = 0
    product: int = 0
    plans: dict[str, int] = field(default_factory=dict)
    operations: dict[str, int] = field(default_factory=dict)
    meter: int = 0
    consumers: list[Consumer] = field(default_factory=list)

    @classmethod
    def open(
        cls, ctx: Context, back_end: str = "http://127.0.0.1:9/tides", sold: dict[str, Any] | None = None
    ) -> Office:
        """Everything from the first API to two granted consumers."""
        clock = ctx.clock if isinstance(ctx.clock, Clock) else Clock(datetime.now(UTC))
        office = cls(ctx, clock)
        provider = ProviderTyped(
            name="Test Office",
            time_zone="Europe/Lisbon",
            currency="EUR",
            tax_percent=Decimal(23),
            mail_from="office@test.example",
        )
        installation.install(ctx, provider)
        portals.begin(ctx, Brand(name=provider.name))
        for role in ROLES:
            installation.add_person(ctx, f"{role.split()[0]}@test.example", role, [role], PASSWORD)
        described = [("GET", "/stations"), ("GET", "/stations/{id}"), ("GET", "/stations/{id}/tides")]
        api = versions.create(
            office.manager,
            ApiTyped(
                name="Tides",
                version="v1",
                description="",
                base_path="/tides/v1",
                back_end_url=back_end,
                capacity_per_second=50,
                operations=[OperationTyped(m, p) for m, p in described],
            ),
        )
        office.api = api.id
        found = operations.page(office.manager, api.id).operations
        office.operations = {f"{o.method} {o.path}": o.id for o in found}
        counted = [office.operations["GET /stations/{id}"], office.operations["GET /stations/{id}/tides"]]
        office.meter = meters.create(office.manager, MeterTyped("Forecast calls", counted, ("2xx",))).id
        made = products.create(
            office.manager,
            ProductTyped(
                name="Harbour Data",
                description="Tides.",
                terms_of_use="Name the source.",
                route=Route(otherwise="reviewed"),
                operations=list(office.operations.values()),
            ),
        )
        office.product = made.id
        for name, wanted in (sold or {"Skiff": terms(2, 5, 30, fee="0"), "Ketch": terms()}).items():
            head = plans.add(office.manager, made.id, name).plans[-1]
            tariff_sheet.save_draft(office.manager, head.id, head.edition, wanted)
            office.plans[name] = head.id
        office.publish("keep")
        for organisation in ("Ferries", "Kayaks"):
            office.consumers.append(office.admit(organisation, list(office.plans)[-1]))
        return office

    @property
    def manager(self) -> Context:
        return self.ctx.acting(Actor("Ines", frozenset({"product manager"})))

    @property
    def reviewer(self) -> Context:
        return self.ctx.acting(Actor("Rui", frozenset({"reviewer"})))

    @property
    def finance(self) -> Context:
        return self.ctx.acting(Actor("Beatriz", frozenset({"finance"})))

    def draft(self, plan: str, drafted: Any, ctx: Context | None = None) -> Sheet:
        """Save a plan's draft over whatever it is now."""
        with self.ctx.transaction() as session:
            edition = session.get_one(Plan, self.plans[plan]).edition
        return tariff_sheet.save_draft(ctx or self.manager, self.plans[plan], edition, drafted)

    def change_product(self, **changes: Any) -> None:
        """Save the product with some fields changed, as somebody does who has just opened it."""
        with self.ctx.transaction() as session:
            product = products.get(session, self.product)
            typed, edition = products.typed_of(product), product.edition
        products.save(self.manager, self.product, edition, replace(typed, **changes))

    def sell(self, *operations: int) -> None:
        """Make operations part of the product, beside those that are."""
        with self.ctx.transaction() as session:
            sold = products.typed_of(products.get(session, self.product)).operations
        self.change_product(operations=[*sold, *operations])

    def publish(self, existing: Existing, note: str = "", on: date | None = None, product: int = 0) -> Sheet:
        """Publish every draft as it stands."""
        with self.ctx.transaction() as session:
            drafted = select(Plan.id, Plan.edition).join(PlanDraft).where(Plan.product_id == (product or self.product))
            editions = {plan: edition for plan, edition in session.execute(drafted)}  # noqa: C416
        return carrying_over.publish(self.manager, product or self.product, editions, existing, note=note, on=on)

    def acting(self, consumer: Consumer) -> Context:
        return self.ctx.acting(consumer.member)

    def join(self, organisation: str, pays: bool = True) -> Actor:
        """An organisation's account: its owner, who has said how it pays."""
        email = f"{organisation.lower()}@consumer.example"
        typed = SignUpTyped(name=f"{organisation} owner", organisation=organisation, password=PASSWORD)
        owner = sessions.who(self.ctx, MEMBERS, sign_up.open_account(self.ctx, email, typed))
        if pays:
            paying.change(self.ctx.acting(owner), BY_TRANSFER)
        return owner

    def ask(self, organisation: str, plan: str) -> tuple[Actor, int, int]:
        """Sign up, register and ask: the member, the application's and the request's ids."""
        member = self.join(organisation)
        own = self.ctx.acting(member)
        application = applications.register(own, f"{organisation} app", "")
        request = asking.ask(own, application.id, self.plans[plan], f"What {organisation} does.", True)
        return member, application.id, request.id

    def admit(self, organisation: str, plan: str) -> Consumer:
        """A consumer that is granted a plan and makes a key."""
        member, application, request = self.ask(organisation, plan)
        deciding.decide(self.reviewer, request, "granted", "")
        made = credentials.make_key(self.ctx.acting(member), application, "server")
        email = f"{organisation.lower()}@consumer.example"
        with self.ctx.transaction() as session:
            stay = session.scalars(select(Stay).order_by(Stay.id.desc())).first()
            assert stay
            return Consumer(
                member=member,
                email=email,
                application=application,
                key=made.key.id,
                secret=made.secret,
                request=request,
                subscription=stay.subscription_id,
                stay=stay.id,
                revision=stay.revision_id,
            )

    def call(self, consumer: Consumer, at: datetime, tail: int, **changes: Any) -> dict[str, Any]:
        """A recorded call as the gateway's journal has it."""
        at_us = instant_of(at)
        row = {
            "call_id": call_id(at_us, tail),
            "at_us": at_us,
            "source": "test",
            "environment": "live",
            "verdict": "served",
            "refused_by": None,
            "status": 200,
            "wait_us": 0,
            "took_us": 900,
            "retry_after_us": None,
            "bytes_in": 0,
            "bytes_out": 100,
            "method": "GET",
            "path": "/tides/v1/stations/x",
            "operation_id": self.operations["GET /stations/{id}"],
            "api_version_id": self.api,
            "product_id": self.product,
            "revision_id": consumer.revision,
            "stay_id": consumer.stay,
            "subscription_id": consumer.subscription,
            "application_id": consumer.application,
            "consumer_id": consumer.member.consumer_id,
            "key_id": consumer.key,
            "checks": [],
            "units": {str(self.meter): "1"},
            "told": {},
        }
        return {**row, **changes}

    def counted(self, calls: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """Calls with what each quota counted of them, as a gateway would have said at the office's time."""
        with self.ctx.transaction() as session:
            held = standing.quotas(session, self.ctx.now)
            where = zone_of(session)
        for call in calls:
            counted: dict[str, Any] = {}
            for of in held:
                quota = of.quota
                units = call["units"].get(str(self.meter)) if quota.meter else "1"
                if of.subscription_id != call["subscription_id"] or units is None or call["verdict"] == "refused":
                    continue
                if quota.aligned == "calendar":
                    window = calendar_window(quota.every, call["at_us"], where)
                elif call["at_us"] >= of.started_us:
                    window = subscription_window(quota.every, call["at_us"], of.started_us, where)
                else:
                    continue
                who = {"everyone": ""}.get(quota.counted_per) or str(call.get(f"{quota.counted_per}_id", ""))
                counted[of.scope] = [who, *window, units]
            call["counted"] = counted
        return calls

    def at(self, now: datetime) -> Context:
        """The context at another time."""
        return replace(self.ctx, clock=lambda: now)
