"""The whole tariff as one document: written out, and compared with what is here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Limit
from calm_tariff.core.sentences import limit_sentence, words
from calm_tariff.core.sheet_cells import Column
from calm_tariff.core.sheet_rows import NamedMeter, Vocabulary, differences
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.tariff import (
    HouseLimitsOf,
    Tariff,
    TariffMeter,
    TariffPlan,
    TariffProduct,
    TariffRule,
    read_tariff,
    write_tariff,
)
from calm_tariff.formats.values import read, write
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.compose import house_limits, meters, routes
from calm_tariff.services.compose.sheet import tariff_sheet
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.house_limits import HouseLimits
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product


@dataclass(frozen=True, slots=True)
class Difference:
    """Something a document says otherwise than it is here. `where` names the thing, `what` the change."""

    where: str
    what: str


def export(ctx: Context) -> str:
    """The tariff as it is, drafts included, as a document."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return write_tariff(present(session))


def diff(ctx: Context, text: str) -> list[Difference]:
    """What applying a document would change, in words. Raises `Invalid`, naming the line or the field."""
    ctx.actor.must_be(*ROLES)
    wanted = read_tariff(text)
    with ctx.transaction() as session:
        Labels(session).check(wanted)
        return differences_of(present(session), wanted)


class Labels:
    """Operations and API versions by the names documents use, and back."""

    def __init__(self, session: Session) -> None:
        query = select(Operation).where(Operation.retired_at.is_(None)).order_by(Operation.id)
        self.label: dict[int, str] = {}
        self.versions: dict[str, int] = {}
        for operation in session.scalars(query):
            version = operation.api_version
            name = f"{version.api.name} {version.version}"
            self.versions[name] = version.id
            self.label[operation.id] = f"{name} {operation.label}"
        self.id = {label: i for i, label in self.label.items()}

    def ids(self, labels: Iterable[str], where: str) -> list[int]:
        """Operation ids. Raises `Invalid`, naming the label that is not here."""
        found = []
        for place, label in enumerate(labels):
            if label not in self.id:
                raise Invalid(f"there is no operation {label!r} here; bring its API in first", f"{where}[{place}]")
            found.append(self.id[label])
        return found

    def out(self, terms: PlanTerms) -> PlanTerms:
        """Stored terms with operations by name."""
        return _renamed(terms, lambda o, place: [self.label.get(int(i), f"#{i}") for i in o])

    def into(self, terms: PlanTerms, where: str) -> PlanTerms:
        """A document's terms with operations by id. Raises `Invalid`, naming the label that is not here."""
        return _renamed(terms, lambda o, place: map(str, self.ids(o, f"{where}.{place}")))

    def check(self, wanted: Tariff) -> None:
        """Raise `Invalid` for anything a document names that is not here."""
        for n, meter in enumerate(wanted.meters):
            self.ids(meter.operations, f"meters[{n}].operations")
        for n, house in enumerate(wanted.limits):
            if house.api is not None and house.api not in self.versions:
                raise Invalid(f"there is no API {house.api!r} here", f"limits[{n}].api")
        for n, product in enumerate(wanted.products):
            at = f"products[{n}]"
            self.ids(product.operations, f"{at}.operations")
            for m, plan in enumerate(product.plans):
                for part, terms in (("terms", plan.terms), ("draft", plan.draft)):
                    if terms:
                        self.into(terms, f"{at}.plans[{m}].{part}")


def _renamed(terms: PlanTerms, names: Callable[[Sequence[str], str], Iterable[str]]) -> PlanTerms:
    """Terms with the operations of their overrides named otherwise; `names` is given them with their place."""

    def put(limit: Limit, place: str) -> Limit:
        return replace(limit, applies_to=tuple(names(limit.applies_to, place))) if limit.applies_to else limit

    return replace(
        terms, overrides=tuple(put(limit, f"overrides[{n}].applies_to") for n, limit in enumerate(terms.overrides))
    )


def present(session: Session) -> Tariff:
    labels = Labels(session)
    found = session.scalars(select(Meter).options(selectinload(Meter.operations)).order_by(Meter.id))
    names = {i: name for name, i in labels.versions.items()}
    house = session.scalars(select(HouseLimits).order_by(HouseLimits.api_version_id))
    query = select(Product).options(selectinload(Product.operations), selectinload(Product.groups)).order_by(Product.id)
    return Tariff(
        format="calm-tariff/1",
        currency=provider_of(session).currency,
        groups=tuple(session.scalars(select(ConsumerGroup.name).order_by(ConsumerGroup.name))),
        meters=tuple(meter_as_written(m, labels) for m in found),
        limits=tuple(
            HouseLimitsOf(api=names.get(h.api_version_id or 0), limits=house_limits.limits_of(h))
            for h in house
            if h.limits and (h.api_version_id is None or h.api_version_id in names)
        ),
        products=tuple(_product(session, p, labels) for p in session.scalars(query)),
    )


def meter_as_written(meter: Meter, labels: Labels) -> TariffMeter:
    rule = meters.rule_of(meter)
    state: Any = meter.state
    return TariffMeter(
        key=meter.key,
        name=meter.name,
        measure=rule.measure,
        header=rule.header,
        outcomes=rule.outcomes,
        environments=rule.environments,
        credentials=rule.credentials,
        state=state,
        operations=_labelled([o.id for o in meter.operations], labels),
    )


def _product(session: Session, product: Product, labels: Labels) -> TariffProduct:
    group_names = routes.group_names(session)
    route = routes.of(product)
    plan_names = {p.id: p.name for p in product.plans}
    shows: Any = tuple(product.credential_kinds)
    return TariffProduct(
        name=product.name,
        description=product.description,
        contact=product.contact,
        terms_of_use=product.terms_of_use,
        access=route.otherwise,
        access_rules=tuple(
            TariffRule(
                step=rule.step,
                plans=tuple(plan_names[each] for each in rule.plans if each in plan_names),
                groups=tuple(group_names[each] for each in rule.groups if each in group_names),
                environment=rule.environment,
                meter=rule.meter,
                above=rule.above,
            )
            for rule in route.rules
        ),
        agreements=route.agreements,
        target_days=product.target_days,
        groups=tuple(g.name for g in product.groups),
        operations=_labelled([o.id for o in product.operations], labels),
        shows=shows,
        key_header=product.key_header,
        key_query=product.key_query,
        older_fields=product.older_fields,
        moves_anew=product.moves_anew,
        plans=tuple(_plan(p, labels) for p in tariff_sheet.plans_of(session, product.id)),
    )


def _plan(plan: Plan, labels: Labels) -> TariffPlan:
    state: Any = plan.state
    return TariffPlan(
        name=plan.name,
        state=state,
        groups=tuple(g.name for g in plan.groups),
        terms=labels.out(read(PlanTerms, plan.revisions[-1].terms)) if plan.revisions else None,
        draft=labels.out(read(PlanTerms, plan.draft.terms)) if plan.draft else None,
    )


def _labelled(ids: Sequence[int], labels: Labels) -> tuple[str, ...]:
    return tuple(sorted(labels.label[i] for i in ids if i in labels.label))


def differences_of(present: Tariff, wanted: Tariff) -> list[Difference]:
    found = [Difference(f"group {name}", "is new") for name in wanted.groups if name not in present.groups]
    here = {m.key: m for m in present.meters}
    for meter in wanted.meters:
        found += _fields(f"meter {meter.name}", here.get(meter.key), meter)
    named = {h.api: h for h in present.limits}
    for house in wanted.limits:
        before = _limit_words(named[house.api].limits if house.api in named else ())
        after = _limit_words(house.limits)
        if before != after:
            found.append(Difference(f"limits of {house.api or 'every API'}", f"{before or 'none'} → {after or 'none'}"))
    known = {p.name: p for p in present.products}
    spoken = [NamedMeter(m.key, m.name) for m in (*present.meters, *wanted.meters)]
    meters_once = list({m.key: m for m in spoken}.values())
    for product in wanted.products:
        found += _product_differences(known.get(product.name), product, Vocabulary(meters_once, wanted.currency))
    return found


def _product_differences(
    before: TariffProduct | None, product: TariffProduct, vocabulary: Vocabulary
) -> list[Difference]:
    where = f"product {product.name}"
    bare = replace(product, plans=(), operations=tuple(sorted(product.operations)))
    found = _fields(where, replace(before, plans=()) if before else None, bare)
    known = {p.name: p for p in before.plans} if before else {}
    vocabulary = replace(vocabulary, operations=[(o, o) for o in product.operations])
    for plan in product.plans:
        old = known.get(plan.name)
        name = f"{product.name} · {plan.name}"
        if old is None:
            found.append(Difference(name, "is new"))
            continue
        if plan.state != old.state:
            found.append(Difference(name, f"{old.state} → {plan.state}"))
        if plan.groups != old.groups:
            found.append(Difference(name, f"seen by {_names(old.groups)} → {_names(plan.groups)}"))
        for part, was, becomes in (("", old.terms, plan.terms), ("draft, ", old.draft, plan.draft)):
            found += _terms_differences(name, part, was, becomes, vocabulary)
    order = [p.name for p in product.plans if p.name in known]
    if before and order != [p.name for p in before.plans if p.name in order]:
        found.append(Difference(where, f"plans stand as {', '.join(order)}"))
    return found


def _terms_differences(
    name: str, part: str, was: PlanTerms | None, becomes: PlanTerms | None, vocabulary: Vocabulary
) -> list[Difference]:
    if was == becomes:
        return []
    if becomes is None:
        return [Difference(name, "its draft goes" if part else "terms, none any more")]
    if was is None:
        return [Difference(name, "has a draft" if part else "is published for the first time")]
    words_of_change = differences(Column(0, becomes, was), vocabulary)
    if not words_of_change:
        return [Difference(name, f"{part}order of terms")]
    return [Difference(name, f"{part}{term}: {old or 'none'} → {new}") for term, old, new in words_of_change]


def _fields(where: str, before: Any, after: Any) -> list[Difference]:
    """Fields of two values that differ, one difference each."""
    if before is None:
        return [Difference(where, "is new")]
    old, new = write(before), write(after)
    found = []
    for name in new:
        if old[name] != new[name]:
            label = name.replace("_", " ")
            if isinstance(new[name], list):
                gone = [_item(x) for x in old[name] if x not in new[name]]
                come = [_item(x) for x in new[name] if x not in old[name]]
                if not gone and not come:
                    continue
                what = "; ".join([*(f"without {x}" for x in gone), *(f"with {x}" for x in come)])
                found.append(Difference(where, f"{label}: {what}"))
            elif isinstance(new[name], str) and len(f"{old[name]}{new[name]}") > 160:
                found.append(Difference(where, f"{label}: another text"))
            else:
                found.append(Difference(where, f"{label}: {_said(old[name])} → {_said(new[name])}"))
    return found


def _item(value: Any) -> str:
    if not isinstance(value, dict):
        return str(value)
    return ", ".join(f"{name} {_listed(said)}" for name, said in value.items() if said not in (None, []))


def _listed(value: Any) -> str:
    return " or ".join(map(str, value)) if isinstance(value, list) else str(value)


def _said(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value or "none")


def _limit_words(limits: Sequence[Limit]) -> str:
    return "; ".join(f"{limit.name}: {words(limit_sentence(limit))}" for limit in limits)


def _names(names: Sequence[str]) -> str:
    return ", ".join(names) or "everybody"
