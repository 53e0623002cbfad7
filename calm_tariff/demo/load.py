"""Loading the demo: the office works through its hundred days by the same services people use."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, time, timedelta
from decimal import Decimal
from functools import partial
from itertools import accumulate
from pathlib import Path
from typing import Any

from calm_tariff.core.periods import instant_of, local_day, month_of, period_before, zone
from calm_tariff.core.portals import FIRST, Brand
from calm_tariff.core.routes import Route
from calm_tariff.demo import bookkeeping, cards, corrections, outside, recording
from calm_tariff.demo.addresses import say_where_they_are
from calm_tariff.demo.admitting import admit
from calm_tariff.demo.callers import CONSUMERS
from calm_tariff.demo.collecting import Collecting, be_stricter
from calm_tariff.demo.history import Called, Caller, World
from calm_tariff.demo.late_file import late_file, send_some
from calm_tariff.demo.lately import lately
from calm_tariff.demo.offers import APIS, HOUSE_LIMITS, METERS, PRODUCTS
from calm_tariff.demo.office import DemoOffice
from calm_tariff.demo.portals import CLIENT, CLIENT_SECRET, PORTALS, WAITING
from calm_tariff.demo.scenario import (
    DAYS,
    PASSWORD,
    PROVIDER,
    SEED,
    STAFF,
    DemoApi,
    DemoProduct,
)
from calm_tariff.formats.callers import Asked, LiveCaller
from calm_tariff.formats.pictures import KINDS
from calm_tariff.services.admit import carrying_over, groups
from calm_tariff.services.admit.carrying_over import Existing
from calm_tariff.services.admit.portals import identity_provider, portals
from calm_tariff.services.admit.portals.identity_provider import IdentityProviderTyped
from calm_tariff.services.admit.portals.portals import PortalTyped
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.base.processor import Processor
from calm_tariff.services.compose import house_limits, meters, products
from calm_tariff.services.compose.apis import documents, forwarding, operations, sunsets, versions
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.compose.apis.views import ForwardingTyped
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.compose.products import ProductTyped
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from calm_tariff.services.compose.sheet.tariff_sheet import Sheet
from calm_tariff.services.house import installation
from calm_tariff.services.serve import gateway_feed, replaying, trials
from calm_tariff.services.settle.accounts import reminding
from calm_tariff.services.settle.cards import planning
from calm_tariff.services.settle.periods import charging

DOCUMENTS = Path(__file__).parent / "documents"
PICTURES = Path(__file__).parent / "pictures"
Say = Callable[[str], None]
FOLLOWS = (reminding.LOOK, planning.LOOK)


@dataclass(frozen=True, slots=True)
class Loaded:
    """What was loaded: how many calls were recorded, who goes on calling, and a file of usage that is yet to come."""

    calls: int
    callers: list[LiveCaller]
    late_usage: str


def found(ctx: Context) -> None:
    """The office and its people, in an empty installation: from here on they can sign in."""
    installation.install(ctx, PROVIDER)
    portals.begin(ctx, Brand(name=PROVIDER.name))
    for email, name, roles in STAFF:
        installation.add_person(ctx, email, name, roles, PASSWORD)


def load(
    ctx: Context,
    standins: str,
    say: Say = lambda words: None,
    *,
    scale: float = 1.0,
    processor: Processor | None = None,
) -> Loaded:
    """Load the whole scenario into what was just founded.

    `scale` makes everybody call more or less often than the scenario says. Without a `processor` nobody pays by card.
    """
    now = ctx.now
    frozen = replace(ctx, clock=lambda: now)
    where = zone(PROVIDER.time_zone)
    first = local_day(instant_of(now), where) - timedelta(days=DAYS)
    office = DemoOffice(frozen, datetime.combine(first, time(0), where).astimezone(UTC))
    say("bringing in the APIs")
    labels = _describe(office, standins)
    named = sorted({c.group for c in CONSUMERS if c.group})
    seen_by = {name: groups.create(office.on(0, "Ines", 0), name).id for name in named}
    offers: dict[str, int] = {}
    for product in PRODUCTS:
        offers |= _sell(office, product, labels, seen_by)
    _open_portals(office, seen_by, standins)
    say(f"admitting {len(CONSUMERS)} consumers")
    secrets: dict[int, str] = {}
    for consumer in (*CONSUMERS, WAITING):
        secrets |= admit(office, consumer, offers)
    for product in PRODUCTS:
        _revise(office, product, labels)
    for day in range(DAYS + 1):
        trials.end_trials(office.on(day, "Ines", 2))
    _announce(office)
    world, callers = _callers(frozen, office, scale, labels)
    told = _spoken(say)
    count = recording.record(frozen, world, callers, office.start, now_us=instant_of(now), seed=SEED, told=told)
    say_where_they_are(office.on(1, "Beatriz"))
    # Yesterday, and so before the month is charged in which the day before may lie.
    send_some(replace(frozen, clock=lambda: now - timedelta(days=1)), world, callers, SEED)
    corrections.strike_out(office.on(DAYS - 1, "Beatriz"))
    # What follows where nothing is paid is done here day by day, and by no worker meanwhile.
    jobs.unschedule(frozen, FOLLOWS)
    _charge(office, now, processor, say)
    jobs.schedule(frozen, FOLLOWS)
    for product in PRODUCTS:
        _draft(office, product, labels)
    lately(office.on(DAYS, "Ines", 9), frozen, standins)
    charged = period_before(month_of(local_day(instant_of(now), where))).start
    late = late_file(frozen, world, callers, charged, SEED)
    bookkeeping.have_looked_through(office.on(DAYS, "Beatriz", 9))
    return Loaded(count, [_live(world, caller, secrets[caller.key_id]) for caller in callers], late)


def _live(world: World, caller: Caller, secret: str) -> LiveCaller:
    """How a caller of the scenario goes on calling."""
    called, adding_up = world.called[caller.product_id]
    weights = [n - before for n, before in zip(adding_up, [0, *adding_up], strict=False)]
    asks = tuple(Asked(op.method, tuple(op.paths[:16]), n) for op, n in zip(called, weights, strict=True))
    return LiveCaller(secret, caller.traffic.daily * caller.share, asks)


def _describe(office: DemoOffice, standins: str) -> dict[str, int]:
    """The APIs, the meters and the limits above the plans; returns operation ids by label."""
    start = office.on(0, "Ines", 0)
    labels: dict[str, int] = {}
    versions: dict[str, int | None] = {"": None}
    for api in APIS:
        version_id = _bring_in(start, api, standins)
        versions[f"{api.name} {api.version}"] = version_id
        found = operations.page(start, version_id).operations
        labels |= {f"{api.name} {api.version} {o.method} {o.path}": o.id for o in found}
    for meter in METERS:
        counted = [labels[label] for label in meter.operations]
        meters.create(start, MeterTyped(meter.name, counted, ("2xx",), meter.measure, header=meter.header))
    for name, limits in HOUSE_LIMITS.items():
        house_limits.save(start, versions[name], 0, limits)
    return labels


def _bring_in(ctx: Context, api: DemoApi, standins: str) -> int:
    """Import an API's OpenAPI document as a person would; returns the version's id."""
    path = DOCUMENTS / f"{api.document}.yaml"
    reading = documents.begin(ctx, path.name, path.read_text(encoding="utf-8"))
    documents.read(ctx, reading.id)
    back_end = api.back_end.format(standins=standins)
    typed = ApiTyped(
        name=api.name,
        version=api.version,
        description="",
        base_path=api.base_path,
        back_end_url=back_end,
        capacity_per_second=api.capacity,
        health_path=api.health_path,
        sandbox_url=back_end if api.sandbox else "",
    )
    made = documents.apply_as_new(ctx, reading.id, typed, agreed=True)
    if api.sandbox:
        forwarding.change(ctx, made.id, made.edition, ForwardingTyped(keeps_bodies=True))
    return made.id


def _sell(office: DemoOffice, product: DemoProduct, labels: dict[str, int], seen_by: dict[str, int]) -> dict[str, int]:
    """A product and its plans as first published; returns plan ids by `Product · Plan`."""
    start = office.on(0, "Ines", 0)
    made = products.create(
        start,
        ProductTyped(
            name=product.name,
            description=product.description,
            terms_of_use=product.terms_of_use,
            route=Route(otherwise=product.access),
            operations=[labels[label] for label in product.calls],
            contact="Questions: **access@larkmouth.example**, on working days until 16:00.",
        ),
    )
    for plan in product.plans:
        head = plans.add(start, made.id, plan.name).plans[-1]
        tariff_sheet.save_draft(start, head.id, head.edition, _bound(plan.terms, labels))
        if plan.group:
            plans.show_to(start, head.id, [seen_by[plan.group]])
    sheet = _publish(start, made.id, "keep", "first tariff")
    return {f"{product.name} · {plan.name}": plan.id for plan in sheet.plans}


def _open_portals(office: DemoOffice, seen_by: dict[str, int], standins: str) -> None:
    """How the portals look, what each offers to whom, and through whom people sign in."""
    ctx = office.on(0, "Ines", 0)
    product_ids = {p.name: p.id for p in products.summaries(ctx)}
    for demo in PORTALS:
        first = demo.path == FIRST
        kept = portals.listed(ctx)[0] if first else portals.create(ctx, demo.path.split("/")[-1], demo.brand.name)
        typed = PortalTyped(
            brand=demo.brand,
            entrance=demo.entrance,
            everything=not demo.products,
            products=[product_ids[name] for name in demo.products],
            groups=[seen_by[name] for name in demo.groups],
            pages=list(demo.pages),
        )
        portals.save(ctx, kept.id, kept.edition, typed)
        for kind in KINDS:
            picture = PICTURES / f"{demo.pictures}-{kind}.png"
            portals.set_picture(ctx, kept.id, kind, picture.read_bytes())
        if demo.through:
            client = IdentityProviderTyped(
                name=demo.through, issuer=f"{standins}/issuer", client_id=CLIENT, client_secret=CLIENT_SECRET
            )
            identity_provider.set_provider(ctx, kept.id, client)


def _bound(terms: dict[str, Any], labels: dict[str, int]) -> dict[str, Any]:
    """Terms with the operations of overrides by id."""
    overrides = [{**o, "applies_to": [str(labels[x]) for x in o["applies_to"]]} for o in terms.get("overrides", ())]
    return {**terms, "overrides": overrides}


def _revise(office: DemoOffice, product: DemoProduct, labels: dict[str, int]) -> None:
    """Later revisions, for everyone at their next period, and newer terms of use."""
    product_id = _product_id(office, product)
    for plan in product.plans:
        for day, terms in plan.later:
            ctx = office.on(day, "Ines")
            head = next(p for p in tariff_sheet.sheet(ctx, product_id).plans if p.name == plan.name)
            tariff_sheet.save_draft(ctx, head.id, head.edition, _bound(terms, labels))
            _publish(ctx, product_id, "next period", "cheaper beyond the first step")
    if product.newer_terms:
        ctx = office.on(75, "Ines")
        kept = products.one(ctx, product_id)
        typed = ProductTyped(
            name=kept.name,
            description=kept.description,
            terms_of_use=product.newer_terms,
            route=kept.route,
            target_days=kept.target_days,
            operations=kept.operations,
            contact=kept.contact,
            groups=kept.group_ids,
        )
        products.save(ctx, product_id, kept.edition, typed)


def _announce(office: DemoOffice) -> None:
    """Versions whose end is announced."""
    for api in APIS:
        if api.sunset_after_days:
            ctx = office.on(80, "Ines")
            version = next(v for v in versions.summaries(ctx) if (v.name, v.version) == (api.name, api.version))
            sunsets.set_state(ctx, version.id, "sunset", office.start.date() + timedelta(days=api.sunset_after_days))


def _draft(office: DemoOffice, product: DemoProduct, labels: dict[str, int]) -> None:
    """What the product manager is working on now."""
    ctx = office.on(DAYS, "Ines", 9)
    product_id = _product_id(office, product)
    for plan in product.plans:
        if plan.draft:
            head = next(p for p in tariff_sheet.sheet(ctx, product_id).plans if p.name == plan.name)
            tariff_sheet.save_draft(ctx, head.id, head.edition, _bound(plan.draft, labels))


def _publish(ctx: Context, product_id: int, existing: Existing, note: str) -> Sheet:
    """Publish every draft as it stands."""
    drafted = tariff_sheet.sheet(ctx, product_id).plans
    return carrying_over.publish(ctx, product_id, {p.id: p.edition for p in drafted if p.drafted}, existing, note)


def _product_id(office: DemoOffice, product: DemoProduct) -> int:
    return next(p.id for p in products.summaries(office.on(0, "Ines")) if p.name == product.name)


def _spoken(say: Say) -> Callable[[int], None]:
    """Progress in words, every fifty thousand calls."""
    said = [0]

    def told(done: int) -> None:
        if done - said[0] >= 50_000:
            said[0] = done
            say(f"{done:,} calls recorded")

    return told


def _callers(ctx: Context, office: DemoOffice, scale: float, labels: dict[str, int]) -> tuple[World, list[Caller]]:
    """Who calls, and what the calls run against, once later revisions stand."""
    feed = gateway_feed.read_feed(ctx)
    placed = {
        o_id: Called.of(
            o_id,
            route.version_id,
            method,
            route.base_path + path,
            {i: m for i, m in feed.meters.items() if str(o_id) in m.operations},
        )
        for route in feed.routes
        for o_id, method, path in route.operations
    }
    called = {
        _product_id(office, product): (
            [placed[labels[label]] for label in product.calls],
            list(accumulate(product.calls.values())),
        )
        for product in PRODUCTS
    }
    traffic = {(c.name, a.name): a.traffic for c in CONSUMERS for a in c.applications}
    callers = []
    for s in replaying.every_stay(ctx):
        pattern = traffic[s.consumer, s.application]
        if pattern is None:
            continue
        callers += [
            Caller(
                consumer_id=s.consumer_id,
                application_id=s.application_id,
                key_id=key,
                product_id=s.product_id,
                plan_id=s.plan_id,
                subscription_id=s.subscription_id,
                started_us=s.started_us,
                stays=s.stays,
                traffic=pattern,
                share=share,
            )
            for key, share in zip(s.keys, _shares(len(s.keys), scale), strict=True)
        ]
    return World(feed, called), callers


def _shares(keys: int, scale: float) -> list[float]:
    """How an application's calls spread over its keys: most come with the first."""
    if keys == 1:
        return [scale]
    first = scale * 0.7
    return [first, *([(scale - first) / (keys - 1)] * (keys - 1))]


def _charge(office: DemoOffice, now: datetime, processor: Processor | None, say: Say) -> None:
    """Every period that has ended is charged and issued by Beatriz, and what is owed is paid as it is."""
    where = zone(PROVIDER.time_zone)
    running = month_of(local_day(instant_of(now), where))
    period = period_before(running)
    ended = []
    while period.end > local_day(instant_of(office.start), where):
        ended.append(period)
        period = period_before(period)
    # Nobody's calls were held up while they were recorded.
    be_stricter(office.ctx, pause_after_days=None)
    days = local_day(instant_of(office.start), where), period_before(running).start
    paying = Collecting(office.ctx, processor, *days)
    beatriz = replace(office.ctx, actor=Actor("Beatriz", frozenset({"finance"})))
    outside.bill_outside(beatriz, ended[0].start)
    for period in reversed(ended):
        say(f"charging {period.start:%B}")
        moment = datetime.combine(period.end, time(9), where).astimezone(UTC) + timedelta(days=1)
        ctx = replace(office.ctx, actor=Actor("Beatriz", frozenset({"finance"})), clock=partial(min, moment, now))
        paying.until(min(moment, now))
        if processor is not None:
            given = {0: cards.GIVEN_LATELY, 1: cards.GIVEN}
            cards.give(ctx, processor, given.get(ended.index(period), {}))
        charging.run(ctx, period.start)
        last = period is ended[0]
        if last:
            corrections.adjust(ctx, period.start)
            corrections.hold_back(ctx, period.start)
        charging.go_on(ctx, charging.begin_issuing(ctx, period.start).id)
        if last:
            corrections.credit(ctx, period.start)
    paying.until(now)
    be_stricter(office.ctx, pause_after_days=30, write_off_limit=Decimal(20))
    paying.give_up()
    paying.bring_statement_in(now)
    bookkeeping.name_accounts(beatriz)
    bookkeeping.close_first(beatriz)
