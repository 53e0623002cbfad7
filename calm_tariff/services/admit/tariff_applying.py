"""Applying a tariff document: the services people use, joined into one transaction."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.routes import Route, Rule
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.tariff import HouseLimitsOf, Tariff, TariffMeter, TariffPlan, TariffProduct, read_tariff
from calm_tariff.formats.values import read, write
from calm_tariff.services.admit import carrying_over, groups
from calm_tariff.services.admit.carrying_over import Existing
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.compose import house_limits, meters, products
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.compose.products import CredentialsTyped, ProductTyped
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from calm_tariff.services.compose.tariff_document import Difference, Labels, differences_of, meter_as_written, present
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product


@dataclass(frozen=True, slots=True)
class Applied:
    """What was done. `unpublished` names the plans whose new terms stand as drafts still."""

    differences: list[Difference]
    unpublished: list[str]


def apply(ctx: Context, text: str, publish: Existing | None = None, on: date | None = None) -> Applied:
    """Make the tariff what a document says, all of it or nothing.

    What the document does not name stays as it is. New terms become drafts; with `publish` they are
    published, and it says what happens to those already on a plan. Raises `Invalid` or `Conflict`.
    """
    ctx.actor.must_be("product manager")
    wanted = read_tariff(text)
    with ctx.transaction() as session:
        within = ctx.joining(session)
        labels = Labels(session)
        labels.check(wanted)
        changes = differences_of(present(session), wanted)
        if wanted.currency != provider_of(session).currency:
            raise Invalid(f"must be {provider_of(session).currency}, in which charges are made here", "currency")
        _apply_groups(within, session, wanted)
        for meter in wanted.meters:
            _apply_meter(within, session, meter, labels)
        for house in wanted.limits:
            _apply_house(within, session, house, labels)
        unpublished: list[str] = []
        for product in wanted.products:
            unpublished += _apply_product(within, session, product, labels, publish=publish, on=on)
        if changes:
            auditing.note(
                session,
                ctx,
                "applied a tariff document",
                ("tariff", 0, "the tariff"),
                after={"changes": [f"{c.where}: {c.what}" for c in changes]},
            )
        return Applied(changes, unpublished)


def _apply_groups(ctx: Context, session: Session, wanted: Tariff) -> None:
    named = [
        *wanted.groups,
        *(g for p in wanted.products for g in (*p.groups, *(x for y in p.plans for x in y.groups))),
        *(g for p in wanted.products for rule in p.access_rules for g in rule.groups),
    ]
    here = set(session.scalars(select(ConsumerGroup.name)))
    for name in dict.fromkeys(named):
        if name not in here:
            groups.create(ctx, name)


def _group_ids(session: Session, names: Sequence[str]) -> list[int]:
    return list(session.scalars(select(ConsumerGroup.id).where(ConsumerGroup.name.in_(names))))


def _apply_meter(ctx: Context, session: Session, wanted: TariffMeter, labels: Labels) -> None:
    typed = MeterTyped(
        name=wanted.name,
        operations=labels.ids(wanted.operations, "operations"),
        outcomes=wanted.outcomes,
        measure=wanted.measure,
        environments=wanted.environments,
        credentials=wanted.credentials,
        header=wanted.header,
    )
    known = session.scalar(select(Meter).where(Meter.key == wanted.key).options(selectinload(Meter.operations)))
    if known is None:
        view = meters.create(ctx, typed, wanted.key)
    elif replace(meter_as_written(known, labels), state=wanted.state) == replace(
        wanted,
        state=wanted.state,
        operations=tuple(sorted(wanted.operations)),
        outcomes=tuple(sorted(wanted.outcomes)),
        environments=tuple(sorted(wanted.environments)),
        credentials=tuple(sorted(wanted.credentials)),
    ):
        view = meters.one(ctx, known.id)
    else:
        view = meters.save(ctx, known.id, known.edition, typed)
    if view.state != wanted.state:
        meters.set_state(ctx, view.id, wanted.state)


def _apply_house(ctx: Context, session: Session, wanted: HouseLimitsOf, labels: Labels) -> None:
    place = labels.versions[wanted.api] if wanted.api else None
    view = next(v for v in house_limits.everything(ctx) if v.api_version_id == place)
    if view.limits != write(wanted.limits):
        house_limits.save(ctx, place, view.edition, write(wanted.limits))


def _apply_product(
    ctx: Context, session: Session, wanted: TariffProduct, labels: Labels, publish: Existing | None, on: date | None
) -> list[str]:
    """Apply a product and its plans; returns the plans whose new terms stand as drafts."""
    known = session.scalar(select(Product).where(Product.name == wanted.name))
    typed = ProductTyped(
        name=wanted.name,
        description=wanted.description,
        terms_of_use=wanted.terms_of_use,
        route=_route(session, wanted, known),
        operations=labels.ids(wanted.operations, "operations"),
        contact=wanted.contact,
        groups=_group_ids(session, wanted.groups),
        moves_anew=wanted.moves_anew,
        target_days=wanted.target_days,
    )
    if known is None:
        product_id = products.create(ctx, typed).id
    else:
        product_id = known.id
        stored = products.typed_of(products.get(session, product_id))
        if _set_of(stored) != _set_of(typed):
            kept = replace(typed, strangers_plan=stored.strangers_plan, subscribing_site=stored.subscribing_site)
            products.save(ctx, product_id, known.edition, kept)
    stored_product = products.get(session, product_id)
    shown = CredentialsTyped(list(wanted.shows), wanted.key_header, wanted.key_query, wanted.older_fields)
    if products.credentials_of(stored_product) != shown:
        products.set_credentials(ctx, product_id, stored_product.edition, shown)
    here = {p.name: p for p in tariff_sheet.plans_of(session, product_id)}
    waiting = []
    for plan in wanted.plans:
        stored_plan = here.get(plan.name) or plans.new_plan(session, ctx, product_id, plan.name)
        here[plan.name] = stored_plan
        seen_by = _group_ids(session, plan.groups)
        if sorted(seen_by) != sorted(g.id for g in stored_plan.groups):
            plans.show_to(ctx, stored_plan.id, seen_by)
        if _settle_terms(ctx, session, stored_plan, plan.terms, labels):
            waiting.append(plan)
    _settle_route(ctx, session, product_id, wanted)
    unpublished = _publish(ctx, session, product_id, wanted, waiting=waiting, publish=publish, on=on)
    for plan in wanted.plans:
        _settle_draft(ctx, session, here[plan.name], plan, labels=labels, unpublished=plan.name in unpublished)
        _settle_state(ctx, session, here[plan.name], plan)
    _settle_order(ctx, session, product_id, wanted)
    return [f"{wanted.name} · {name}" for name in unpublished]


def _route(session: Session, wanted: TariffProduct, known: Product | None) -> Route:
    """The route that is wanted, as far as the plans that its rules name are there already."""
    here = {p.name: p.id for p in tariff_sheet.plans_of(session, known.id)} if known else {}
    rules = [
        Rule(
            step=rule.step,
            plans=tuple(here[name] for name in rule.plans),
            groups=tuple(sorted(_group_ids(session, rule.groups))),
            environment=rule.environment,
            meter=rule.meter,
            above=rule.above,
        )
        for rule in wanted.access_rules
        if set(rule.plans) <= here.keys()
    ]
    return Route(otherwise=wanted.access, rules=tuple(rules), agreements=wanted.agreements)


def _settle_route(ctx: Context, session: Session, product_id: int, wanted: TariffProduct) -> None:
    """Once all plans are there, the route can name them."""
    product = products.get(session, product_id)
    session.refresh(product, ["plans"])
    named = {plan.name for plan in product.plans}
    for place, rule in enumerate(wanted.access_rules):
        if not set(rule.plans) <= named:
            raise Invalid("names a plan that is not of this product", f"{wanted.name}.access_rules[{place}].plans")
    typed = products.typed_of(product)
    route = _route(session, wanted, product)
    if route != typed.route:
        products.save(ctx, product_id, product.edition, replace(typed, route=route))


def _settle_terms(ctx: Context, session: Session, stored: Plan, terms: PlanTerms | None, labels: Labels) -> bool:
    """Bring a plan's draft to its published terms as wanted; whether these are new."""
    if stored.state == "withdrawn":
        return False
    if terms is None:
        if stored.revisions:
            raise Conflict("is published here; a document that has only its draft cannot undo that", stored.name)
        return False
    tariff_sheet.keep_terms(session, ctx, stored, labels.into(terms, f"{stored.name}.terms"))
    return stored.draft is not None


def _publish(
    ctx: Context,
    session: Session,
    product_id: int,
    wanted: TariffProduct,
    waiting: Sequence[TariffPlan],
    publish: Existing | None,
    on: date | None,
) -> list[str]:
    """Publish what waits, if so asked; returns the names of plans left as drafts."""
    if not waiting:
        return []
    if publish is None:
        for plan in waiting:
            if plan.draft is not None:
                raise Conflict("has new terms and a draft beside them; say how to publish the terms", plan.name)
        return [plan.name for plan in waiting]
    named = {plan.name for plan in waiting}
    others = []
    for stored in tariff_sheet.plans_of(session, product_id):
        if stored.draft and stored.name not in named:
            others.append((stored.id, read(PlanTerms, stored.draft.terms)))
            tariff_sheet.drop_draft(session, stored)
    carrying_over.publish_drafts(session, ctx, product_id, publish, note="from a tariff document", on=on)
    for plan_id, terms in others:
        tariff_sheet.put_draft(session, ctx, tariff_sheet.plan_of(session, plan_id), terms)
    session.flush()
    return []


def _settle_draft(
    ctx: Context, session: Session, stored: Plan, wanted: TariffPlan, labels: Labels, unpublished: bool
) -> None:
    if stored.state == "withdrawn" or unpublished:
        return
    session.refresh(stored, ["draft", "revisions"])
    if wanted.draft is not None:
        tariff_sheet.keep_terms(session, ctx, stored, labels.into(wanted.draft, f"{stored.name}.draft"))
    elif stored.revisions:
        tariff_sheet.drop_draft(session, stored)


def _settle_state(ctx: Context, session: Session, stored: Plan, wanted: TariffPlan) -> None:
    if stored.state == wanted.state or stored.state == "draft" or wanted.state == "draft":
        return
    steps = {"closed": plans.close, "on sale": plans.reopen, "withdrawn": carrying_over.withdraw}
    steps[wanted.state](ctx, stored.id)


def _settle_order(ctx: Context, session: Session, product_id: int, wanted: TariffProduct) -> None:
    standing = {p.name: p.id for p in tariff_sheet.plans_of(session, product_id) if p.state != "withdrawn"}
    order = [standing[p.name] for p in wanted.plans if p.name in standing]
    order += [i for i in standing.values() if i not in order]
    if order != list(standing.values()):
        plans.reorder(ctx, product_id, order)


def _set_of(typed: ProductTyped) -> tuple[object, ...]:
    return (
        typed.name,
        typed.description,
        typed.terms_of_use,
        typed.route,
        typed.target_days,
        sorted(typed.operations),
        typed.contact,
        sorted(typed.groups),
        typed.moves_anew,
    )
