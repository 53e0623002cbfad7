"""A tariff sheet's rows: terms as sentences whose emphasised words can be changed, plan beside plan."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import partial
from typing import Any

from calm_tariff.core.limits import Limit, Pace, Quota, Rate, Window
from calm_tariff.core.prices import Blocks, Fee, Graduated, PerUnit, Price, Setup, Tier, UsagePrice, Volume
from calm_tariff.core.sentences import (
    Sentence,
    amount_sentence,
    limit_sentence,
    note_sentence,
    notice_sentence,
    override_sentence,
    percent_sentence,
    price_sentence,
    tax_sentence,
    trial_sentence,
)
from calm_tariff.core.sheet_cells import Column, SheetAction, SheetCell, cell_of, clauses_that_differ, words_of
from calm_tariff.core.terms import PlanTerms, Trial


@dataclass(frozen=True, slots=True)
class Slot:
    """Where a row's terms stand in the terms, so that they can be copied to another plan: the value at
    `path`; of a list, only the items whose fields are as in `match`."""

    path: str
    match: dict[str, Any] | None = None


@dataclass(frozen=True, slots=True)
class SheetRow:
    """One kind of term across the plans."""

    group: str
    label: str
    slot: Slot
    cells: list[SheetCell]


@dataclass(frozen=True, slots=True)
class NamedMeter:
    """A meter a row can speak of."""

    key: str
    name: str


@dataclass(frozen=True, slots=True)
class Vocabulary:
    """What rows speak of: the meters, the currency, and the product's operations as (id, label)."""

    meters: Sequence[NamedMeter]
    currency: str
    operations: Sequence[tuple[str, str]] = field(default=())


def rows(columns: Sequence[Column], vocabulary: Vocabulary) -> list[SheetRow]:
    """All rows of a sheet."""
    v = vocabulary

    def row(group: str, label: str, slot: Slot, cell: Callable[[Column], SheetCell]) -> SheetRow:
        return SheetRow(group, label, slot, [cell(column) for column in columns])

    kinds: tuple[type[Limit], ...] = (Rate, Window, Pace)
    limits = [
        row("Speed", kind.__name__, Slot("limits", {"kind": kind.__name__.lower()}), partial(_limit_cell, kind, None))
        for kind in kinds
    ]
    allowances = [
        row("Allowance", m.name, Slot("limits", {"kind": "quota", "meter": m.key}), partial(_limit_cell, Quota, m))
        for m in v.meters
    ]
    usage = [
        row(
            "Price", m.name, Slot("pricing.prices", {"kind": "usage", "meter": m.key}), partial(_price_cell, v, None, m)
        )
        for m in v.meters
    ]
    setup, fee = Slot("pricing.prices", {"kind": "setup"}), Slot("pricing.prices", {"kind": "fee"})
    return [
        *limits,
        *allowances,
        row("Single operations", "Overrides", Slot("overrides"), partial(_override_cell, v)),
        row("Price", "Trial", Slot("trial"), partial(_trial_cell, v)),
        row("Price", "Setup", setup, partial(_price_cell, v, Setup, None)),
        row("Price", "Fee", fee, partial(_price_cell, v, Fee, None)),
        *usage,
        row("Price", "At least", Slot("pricing.minimum"), partial(_amount_cell, "minimum", v.currency)),
        row("Price", "At most", Slot("pricing.cap"), partial(_amount_cell, "cap", v.currency)),
        row("Price", "Discount", Slot("pricing.discount_percent"), _discount_cell),
        row("Price", "Tax", Slot("pricing.tax"), _tax_cell),
        row("Leaving", "Notice", Slot("notice_days"), _notice_cell),
        row("Notes", "Notes", Slot("notes"), _notes_cell),
    ]


def differences(column: Column, vocabulary: Vocabulary) -> list[tuple[str, str, str]]:
    """What a draft changes, as (term, was, becomes), in words."""
    found = []
    before = rows([Column(column.plan_id, column.live, None)], vocabulary) if column.live else []
    for row in rows([column], vocabulary):
        cell = row.cells[0]
        if cell.changed:
            now = words_of(cell)
            old = next((words_of(r.cells[0]) for r in before if (r.group, r.label) == (row.group, row.label)), "")
            found.append((row.label, "; ".join(cell.was), (clauses_that_differ(now, old) or now) or cell.absent))
    return found


def _limit_cell(kind: type[Limit], meter: NamedMeter | None, column: Column) -> SheetCell:
    def own(terms: PlanTerms) -> Iterator[tuple[int, Limit]]:
        for place, limit in enumerate(terms.limits):
            if isinstance(limit, kind) and (meter is None or getattr(limit, "meter", None) == meter.key):
                yield place, limit

    mine = list(own(column.terms))
    drafted = [limit_sentence(limit, f"limits.{place}") for place, limit in mine]
    live = [limit_sentence(limit) for _, limit in own(column.live)] if column.live else []
    new = _new_limit(kind, meter, _names(column.terms))
    label = "Add an allowance" if meter else f"Add a {kind.__name__.lower()}"
    actions = []
    for n, (place, limit) in enumerate(mine):
        which = "" if len(mine) == 1 else f" the {_nth(n)}"
        if isinstance(limit, Quota):
            other = "subscription" if limit.aligned == "calendar" else "calendar"
            by = "from the day of subscribing" if other == "subscription" else "by the calendar"
            actions.append(SheetAction(f"Count{which} {by}", f"limits.{place}.aligned", other))
        actions.append(SheetAction(f"Take away{which}", f"limits.{place}", None))
    actions.append(SheetAction(f"{label}, another" if mine else label, "limits.-", new))
    return cell_of(column, drafted, live, "no allowance" if meter else "none", actions)


def _names(terms: PlanTerms) -> set[str]:
    return {limit.name for limit in (*terms.limits, *terms.overrides)}


def _new_limit(kind: type[Limit], meter: NamedMeter | None, taken: set[str], name: str = "") -> Limit:
    word = name or (meter.name if meter else kind.__name__)
    free = next(n for n in (word, *(f"{word} {i}" for i in range(2, 99))) if n not in taken)
    if kind is Rate:
        return Rate(name=free, counted_per="key", calls=5, per_seconds=1, burst=10)
    if kind is Window:
        return Window(name=free, counted_per="key", calls=1000, per_seconds=3600, rolling=True)
    if kind is Pace:
        return Pace(name=free, counted_per="subscription", calls=20, per_seconds=1, max_wait_ms=200)
    return Quota(
        name=free,
        counted_per="subscription",
        units=10000,
        every="month",
        aligned="calendar",
        when_spent="refuse",
        meter=meter.key if meter else None,
    )


def _override_cell(v: Vocabulary, column: Column) -> SheetCell:
    mine = column.terms.overrides
    drafted = [override_sentence(limit, f"overrides.{n}", v.operations) for n, limit in enumerate(mine)]
    live = [override_sentence(limit, "", v.operations) for limit in column.live.overrides] if column.live else []
    actions = []
    for n, limit in enumerate(mine):
        which = "" if len(mine) == 1 else f" the {_nth(n)}"
        spare = next((o for o, _ in v.operations if o not in (limit.applies_to or ())), None)
        if spare:
            label = f"Let{which or ' it'} hold for one more operation"
            actions.append(SheetAction(label, f"overrides.{n}.applies_to.-", spare))
        actions.append(SheetAction(f"Take away{which}", f"overrides.{n}", None))
    if v.operations:
        first, taken = (v.operations[0][0],), _names(column.terms)
        for kind in (Rate, Window, Pace):
            new = replace(_new_limit(kind, None, taken, f"{kind.__name__} of an operation"), applies_to=first)
            actions.append(SheetAction(f"Add a {kind.__name__.lower()} of an operation", "overrides.-", new))
        for meter in v.meters:
            new = replace(_new_limit(Quota, meter, taken, f"{meter.name} of an operation"), applies_to=first)
            actions.append(SheetAction(f"Add an allowance of {meter.name.lower()}", "overrides.-", new))
    return cell_of(column, drafted, live, "none", actions)


def _trial_cell(v: Vocabulary, column: Column) -> SheetCell:
    named = [(m.key, m.name) for m in v.meters]
    trial, live = column.terms.trial, column.live.trial if column.live else None
    if trial is None:
        actions = [SheetAction("Begin with a trial", "trial", Trial(days=14))]
    else:
        actions = [SheetAction("Take away", "trial", None)]
        if trial.units is None and v.meters:
            limited = replace(trial, units=Decimal(1000), meter=v.meters[0].key)
            actions.insert(0, SheetAction("End it after so many units, too", "trial", limited))
        elif trial.units is not None:
            free = replace(trial, units=None, meter=None)
            actions.insert(0, SheetAction("Let only the days count", "trial", free))
    return cell_of(
        column,
        [trial_sentence(trial, "trial", named)] if trial else [],
        [trial_sentence(live, "", named)] if live else [],
        "none",
        actions,
    )


def _price_cell(
    v: Vocabulary, kind: type[Setup] | type[Fee] | None, meter: NamedMeter | None, column: Column
) -> SheetCell:
    def own(terms: PlanTerms) -> tuple[int, Price] | None:
        for place, price in enumerate(terms.pricing.prices):
            if kind is not None and isinstance(price, kind):
                return place, price
            if meter is not None and not isinstance(price, Setup | Fee) and price.meter == meter.key:
                return place, price
        return None

    mine, live = own(column.terms), own(column.live) if column.live else None
    path = f"pricing.prices.{mine[0]}" if mine else ""
    drafted = [price_sentence(mine[1], v.currency, column.terms.pricing.prorate, path, "pricing")] if mine else []
    was = [price_sentence(live[1], v.currency, column.live.pricing.prorate)] if live and column.live else []
    return cell_of(column, drafted, was, _absent(kind), list(_price_actions(mine, kind, meter, path)))


def _absent(kind: type[Setup] | type[Fee] | None) -> str:
    if kind is None:
        return "not sold beyond the allowance"
    return "free" if kind is Fee else "none"


def _price_actions(
    mine: tuple[int, Price] | None, kind: type[Setup] | type[Fee] | None, meter: NamedMeter | None, path: str
) -> Iterator[SheetAction]:
    if mine is None:
        new: Price = Graduated(meter=meter.key if meter else "", tiers=(Tier(up_to=None, unit=Decimal("0.0010")),))
        if kind is not None:
            new = kind(amount=Decimal(10))
        label = "Sell units" if kind is None else f"Add a {'setup fee' if kind is Setup else 'fee'}"
        yield SheetAction(label, "pricing.prices.-", new)
        return
    price = mine[1]
    if not isinstance(price, Setup | Fee):
        yield from _model_actions(price, path)
    yield SheetAction("Take away", path, None)


def _model_actions(price: UsagePrice, path: str) -> Iterator[SheetAction]:
    """Steps for a price that has them, and the other models with the numbers carried over."""
    if isinstance(price, Graduated | Volume):
        yield SheetAction("Edit the steps…", path, None, "steps")
        yield SheetAction("Add a step", f"{path}.tiers", _with_step(price.tiers))
        if len(price.tiers) > 1:
            last = price.tiers[-2]
            merged = [*price.tiers[:-2], Tier(up_to=None, unit=last.unit, flat=last.flat)]
            yield SheetAction("Take away the last step", f"{path}.tiers", merged)
    tiers = price.tiers if isinstance(price, Graduated | Volume) else (Tier(up_to=None, unit=_unit_of(price)),)
    models: tuple[tuple[str, UsagePrice], ...] = (
        ("Every unit at one price", PerUnit(meter=price.meter, included=price.included, unit=_unit_of(price))),
        ("In steps, each with its own price", Graduated(meter=price.meter, included=price.included, tiers=tiers)),
        ("All at the price of the step reached", Volume(meter=price.meter, included=price.included, tiers=tiers)),
        (
            "In blocks",
            Blocks(meter=price.meter, included=price.included, block=Decimal(1000), amount=_unit_of(price) * 1000),
        ),
    )
    for label, other in models:
        if other.model != price.model:
            yield SheetAction(label, path, other)


def _with_step(tiers: Sequence[Tier]) -> list[Tier]:
    last = tiers[-1]
    start = tiers[-2].up_to if len(tiers) > 1 else None
    step = Tier(up_to=start * 2 if start else Decimal(10000), unit=last.unit, flat=last.flat)
    return [*tiers[:-1], step, last]


def _unit_of(price: UsagePrice) -> Decimal:
    if isinstance(price, Graduated | Volume):
        return price.tiers[0].unit
    return price.unit if isinstance(price, PerUnit) else price.amount / price.block


def _amount_cell(name: str, currency: str, column: Column) -> SheetCell:
    path = f"pricing.{name}"
    value = getattr(column.terms.pricing, name)
    live = getattr(column.live.pricing, name) if column.live else None
    actions = [SheetAction("Take away", path, None)] if value is not None else [SheetAction("Set one", path, "100")]
    return cell_of(
        column,
        [amount_sentence(value, currency, path)] if value is not None else [],
        [amount_sentence(live, currency, path)] if live is not None else [],
        "no cap" if name == "cap" else "no minimum",
        actions,
    )


def _discount_cell(column: Column) -> SheetCell:
    path = "pricing.discount_percent"
    value = column.terms.pricing.discount_percent
    live = column.live.pricing.discount_percent if column.live else value * 0
    return cell_of(
        column,
        [percent_sentence(value, path)] if value else [],
        [percent_sentence(live, path)] if live else [],
        "none",
        [SheetAction("Take away", path, "0") if value else SheetAction("Set one", path, "10")],
    )


def _tax_cell(column: Column) -> SheetCell:
    path = "pricing.tax"

    def said(terms: PlanTerms, at: str) -> list[Sentence]:
        return [] if terms.pricing.tax == "standard" else [tax_sentence(terms.pricing.tax, at)]

    drafted = said(column.terms, path)
    action = SheetAction("Add tax", path, "standard") if drafted else SheetAction("Exempt it from tax", path, "exempt")
    return cell_of(column, drafted, said(column.live, "") if column.live else [], "tax is added", [action])


def _notice_cell(column: Column) -> SheetCell:
    days, live = column.terms.notice_days, column.live.notice_days if column.live else 0
    action = SheetAction("Let it end at once", "notice_days", 0)
    if not days:
        action = SheetAction("Ask for notice", "notice_days", 30)
    return cell_of(
        column,
        [notice_sentence(days, "notice_days")] if days else [],
        [notice_sentence(live, "")] if live else [],
        "at once, or with the month",
        [action],
    )


def _notes_cell(column: Column) -> SheetCell:
    text, live = column.terms.notes, column.live.notes if column.live else ""
    action = SheetAction("Take away", "notes", "") if text else SheetAction("Write a note", "notes", "A note.")
    return cell_of(
        column,
        [note_sentence(text, "notes")] if text else [],
        [note_sentence(live, "")] if live else [],
        "none",
        [action],
    )


def _nth(place: int) -> str:
    return ("first", "second", "third", "fourth", "fifth")[place] if place < 5 else f"{place + 1}th"
