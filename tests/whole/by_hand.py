"""The arithmetic of docs/arithmetic.md, sections 2, 3 and 5, once more, from rows as they are stored.

Nothing here comes from the product: two who reckon apart and come to the same have more to say than one.
"""

from __future__ import annotations

import json
import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from fractions import Fraction
from math import ceil, floor
from typing import Any
from zoneinfo import ZoneInfo

Row = dict[str, Any]
Ask = Callable[[str], list[Row]]
# Where a line stands: subscription, when its segment begins, kind and meter.
Place = tuple[int, datetime, str, int | None]


def cents(amount: Fraction) -> Fraction:
    """Rounded to cents, half away from zero."""
    size = Fraction(floor(abs(amount) * 100 + Fraction(1, 2)), 100)
    return -size if amount < 0 else size


def read(value: Any) -> Any:
    """What a JSON column holds, whichever way the driver gives it."""
    return json.loads(value) if isinstance(value, str) else value


def moment(value: datetime | None) -> datetime | None:
    """A moment as it is stored, in UTC."""
    return None if value is None else value.replace(tzinfo=UTC)


@dataclass(frozen=True)
class Month:
    """A calendar month of a zone."""

    start: date
    where: ZoneInfo

    @property
    def end(self) -> date:
        return (self.start + timedelta(days=32)).replace(day=1)

    @property
    def days(self) -> int:
        return (self.end - self.start).days

    @property
    def begins(self) -> datetime:
        return self.midnight(self.start)

    @property
    def ends(self) -> datetime:
        return self.midnight(self.end)

    def midnight(self, day: date) -> datetime:
        """When a local day begins."""
        return datetime(day.year, day.month, day.day, tzinfo=self.where).astimezone(UTC)

    def days_ended_in(self, since: datetime, until: datetime) -> int:
        """How many of its days end after one moment, and by another."""
        ends = (self.midnight(self.start + timedelta(days=n + 1)) for n in range(self.days))
        return sum(1 for end in ends if since < end <= until)


@dataclass(frozen=True)
class Stretch:
    """A stretch of a subscription under one revision, as far as it lies in a month."""

    subscription: int
    stay: int
    revision: int
    since: datetime
    until: datetime
    trial: bool
    first: bool
    days: int


@dataclass(frozen=True)
class Line:
    """One rounded figure, with how much of what."""

    place: Place
    amount: Fraction
    quantity: Fraction | None = None


@dataclass
class House:
    """All that lines are made of, read once."""

    ask: Ask
    where: ZoneInfo = field(init=False)
    provider: Row = field(init=False)

    def __post_init__(self) -> None:
        (self.provider,) = self.ask("SELECT * FROM provider")
        self.where = ZoneInfo(self.provider["time_zone"])
        self.meters = {m["id"]: m for m in self.ask("SELECT * FROM meter")}
        self.operations: dict[int, set[int]] = defaultdict(set)
        for each in self.ask("SELECT * FROM meter_operation"):
            self.operations[each["meter_id"]].add(each["operation_id"])
        self.revisions = {r["id"]: r for r in self.ask("SELECT * FROM plan_revision")}
        self.terms = {at: read(r["terms"])["pricing"] for at, r in self.revisions.items()}
        self.products = {p["id"]: p["product_id"] for p in self.ask("SELECT id, product_id FROM plan")}
        self.outside = self.ask("SELECT product_id, since, until FROM outside_product")
        self.consumers = {c["id"]: c for c in self.ask("SELECT * FROM consumer")}
        self.stays: dict[int, list[Row]] = defaultdict(list)
        for stay in self.ask("SELECT * FROM stay ORDER BY start_at, id"):
            self.stays[stay["subscription_id"]].append(stay)
        self.pauses: dict[int, list[Row]] = defaultdict(list)
        for pause in self.ask("SELECT * FROM pause ORDER BY start_at"):
            self.pauses[pause["subscription_id"]].append(pause)
        self.subscriptions = self.ask(
            "SELECT s.id, s.ended_at, a.consumer_id FROM subscription s JOIN application a ON a.id = s.application_id"
        )

    def percent(self, month: Month) -> Fraction:
        """The standard percent of tax on a month's last day."""
        found = Fraction(self.provider["tax_percent"])
        for change in sorted(read(self.provider["tax_changes"]), key=lambda c: str(c["since"])):
            if date.fromisoformat(change["since"]) < month.end:
                found = Fraction(change["percent"])
        return found

    def units(self) -> dict[tuple[int, int], Fraction]:
        """Units of all calls that count, by stay with its month and meter."""
        found: dict[tuple[int, int], Fraction] = defaultdict(Fraction)
        for at, stay, meter, units in self._counted():
            month = at.astimezone(self.where).date().replace(day=1)
            found[stay["id"] * 100_000 + month.year * 12 + month.month, meter] += units
        return found

    def hours_outside(self) -> dict[tuple[datetime, int, int], Fraction]:
        """Units of all calls that count of what is billed elsewhere, by hour, subscription and meter."""
        found: dict[tuple[datetime, int, int], Fraction] = defaultdict(Fraction)
        for at, stay, meter, units in self._counted():
            month = Month(at.astimezone(self.where).date().replace(day=1), self.where)
            if self.is_outside(stay["revision_id"], month):
                found[at.replace(minute=0, second=0, microsecond=0), stay["subscription_id"], meter] += units
        return found

    def _counted(self) -> Iterator[tuple[datetime, Row, int, Fraction]]:
        """Of all calls that count the instant, the stay, and what each meter reads of them, and not what was written
        down with them."""
        columns = "at_us, status, bytes_in, bytes_out, operation_id, environment, credential, reported, subscription_id"
        priced = {at: _priced(terms) for at, terms in self.terms.items()}
        by_key = {m["key"]: at for at, m in self.meters.items()}
        for call in self.ask(
            f"SELECT {columns} FROM `call`"
            " WHERE verdict <> 'refused' AND strike_id IS NULL AND subscription_id IS NOT NULL"
        ):
            at = datetime.fromtimestamp(call["at_us"] // 1_000_000, UTC) + timedelta(
                microseconds=call["at_us"] % 1_000_000
            )
            stay = self._stay(call["subscription_id"], at)
            if stay is None:
                continue
            for key in priced[stay["revision_id"]]:
                units = self._reading(by_key[key], call)
                if units is not None:
                    yield at, stay, by_key[key], units

    def of_month(self, stay: int, month: Month, meter: int, units: dict[tuple[int, int], Fraction]) -> Fraction:
        """Units of a stay in a month by one meter."""
        return units.get((stay * 100_000 + month.start.year * 12 + month.start.month, meter), Fraction(0))

    def is_outside(self, revision: int, month: Month) -> bool:
        """Whether a month under a revision is billed elsewhere."""
        product = self.products[self.revisions[revision]["plan_id"]]
        mine = [each for each in self.outside if each["product_id"] == product]
        return any(e["since"] <= month.start and (e["until"] is None or month.start < e["until"]) for e in mine)

    def _stay(self, subscription: int, at: datetime) -> Row | None:
        for stay in self.stays[subscription]:
            end = moment(stay["end_at"])
            if moment(stay["start_at"]) <= at and (end is None or at < end):  # type: ignore[operator]
                return stay
        return None

    def _reading(self, meter_id: int, call: Row) -> Fraction | None:
        meter = self.meters[meter_id]
        outcomes, credentials = read(meter["outcomes"]), read(meter["credentials"])
        status = str(call["status"])
        if call["operation_id"] not in self.operations[meter_id] or call["environment"] not in read(
            meter["environments"]
        ):
            return None
        if (outcomes and status not in outcomes and f"{status[0]}xx" not in outcomes) or (
            credentials and call["credential"] not in credentials
        ):
            return None
        if meter["measure"] == "calls":
            return Fraction(1)
        if meter["measure"] in ("bytes_out", "bytes_in"):
            return Fraction(call[meter["measure"]], 10**6)
        reported = {name.lower(): given for name, given in read(call["reported"]).items()}
        said = (reported.get(meter["header"].lower()) or "").strip()
        if not re.fullmatch(r"[0-9]{1,15}(\.[0-9]{1,30})?", said):
            return Fraction(0)
        return Fraction(floor(Fraction(said) * 10**6 + Fraction(1, 2)), 10**6)

    def stretches(self, month: Month) -> Iterator[tuple[int, Stretch]]:
        """What lies in a month of every subscription, by whose it is."""
        for each in self.subscriptions:
            ended, charged_before = moment(each["ended_at"]), False
            for stay in self.stays[each["id"]]:
                start, end = moment(stay["start_at"]), moment(stay["end_at"])
                assert start is not None
                ends = min(at for at in (end, ended, datetime.max.replace(tzinfo=UTC)) if at is not None)
                empty = ends <= start
                first = not stay["trial"] and not charged_before and not empty
                charged_before |= first
                over = ends <= max(start, month.begins) or start >= month.ends
                if over or self.is_outside(stay["revision_id"], month):
                    continue
                days = month.days_ended_in(start, ends)
                for pause in self.pauses[each["id"]]:
                    since, until = moment(pause["start_at"]), moment(pause["end_at"]) or ends
                    assert since is not None
                    if max(since, start) < min(until, ends):
                        days -= month.days_ended_in(max(since, start), min(until, ends))
                yield (
                    each["consumer_id"],
                    Stretch(
                        subscription=each["id"],
                        stay=stay["id"],
                        revision=stay["revision_id"],
                        since=max(start, month.begins),
                        until=min(ends, month.ends),
                        trial=bool(stay["trial"]),
                        first=first and start >= month.begins,
                        days=days,
                    ),
                )

    def lines(self, month: Month, units: dict[tuple[int, int], Fraction]) -> dict[int, list[Line]]:
        """The lines of a month, by consumer."""
        found: dict[int, list[Line]] = defaultdict(list)
        for consumer, stretch in self.stretches(month):
            found[consumer] += self._of_stretch(month, stretch, units)
        return found

    def _of_stretch(self, month: Month, of: Stretch, units: dict[tuple[int, int], Fraction]) -> Iterator[Line]:
        terms = self.terms[of.revision]
        share = Fraction(of.days, month.days)
        by_key = {m["key"]: at for at, m in self.meters.items()}

        def line(kind: str, amount: Fraction, meter: int | None = None, quantity: Fraction | None = None) -> Line:
            return Line((of.subscription, of.since, kind, meter), amount, quantity)

        def portion(text: str) -> Fraction:
            return cents(Fraction(text) * (share if terms["prorate"] else 1))

        together = Fraction(0)
        for price in terms["prices"]:
            if price["kind"] == "setup" and of.first and not of.trial:
                yield line("setup", cents(Fraction(price["amount"])))
        for price in terms["prices"]:
            if price["kind"] != "fee":
                continue
            fee = portion(price["amount"])
            if not terms["prorate"] and not of.days:
                fee = Fraction(0)
            fee = Fraction(0) if of.trial else fee
            together += fee
            yield line("fee", fee)
        for price in terms["prices"]:
            if price["kind"] != "usage":
                continue
            meter = by_key[price["meter"]]
            quantity = self.of_month(of.stay, month, meter, units)
            included = Fraction(price.get("included") or 0)
            if terms["prorate"]:
                included = included if share == 1 else Fraction(ceil(included * share))
            priced = max(quantity - included, Fraction(0))
            amount = Fraction(0) if of.trial else cents(_price(price, priced))
            together += amount
            yield line("usage", amount, meter, quantity)
        if of.trial:
            return
        discount = Fraction(terms["discount_percent"])
        if discount:
            less = cents(-together * discount / 100)
            together += less
            yield line("discount", less)
        if not of.days:
            return
        if terms["minimum"] is not None and together < portion(terms["minimum"]):
            yield line("minimum", portion(terms["minimum"]) - together)
            together = portion(terms["minimum"])
        if terms["cap"] is not None and together > portion(terms["cap"]):
            yield line("cap", portion(terms["cap"]) - together)

    def rule(self, consumer: int, subscription_revision: int | None, month: Month) -> tuple[str, Fraction]:
        """How a consumer's line under a revision is taxed; of one that is of none, as it is usual."""
        treatment = self.consumers[consumer]["tax_treatment"]
        if subscription_revision is not None and self.terms[subscription_revision].get("tax") == "exempt":
            treatment = "exempt"
        return treatment, self.percent(month) if treatment == "standard" else Fraction(0)


def taxed(lines: Iterable[tuple[str, Fraction, Fraction]]) -> tuple[dict[tuple[str, Fraction], Fraction], Fraction]:
    """What lines, each with its treatment, percent and amount, come to: tax by group, and the total."""
    groups: dict[tuple[str, Fraction], Fraction] = defaultdict(Fraction)
    for treatment, percent, amount in lines:
        groups[treatment, percent] += amount
    tax = {rule: cents(amount * rule[1] / 100) for rule, amount in groups.items()}
    return tax, sum(groups.values(), Fraction(0)) + sum(tax.values(), Fraction(0))


def _priced(terms: Row) -> list[str]:
    return [price["meter"] for price in terms["prices"] if price["kind"] == "usage"]


def _price(price: Row, quantity: Fraction) -> Fraction:
    """What a priced quantity costs, exactly."""
    if not quantity:
        return Fraction(0)
    if price["model"] == "per_unit":
        return quantity * Fraction(price["unit"])
    if price["model"] == "blocks":
        return ceil(quantity / Fraction(price["block"])) * Fraction(price["amount"])
    tiers = [
        (
            None if t["up_to"] is None else Fraction(t["up_to"]),
            Fraction(t.get("unit") or 0),
            Fraction(t.get("flat") or 0),
        )
        for t in price["tiers"]
    ]
    if price["model"] == "volume":
        _, unit, flat = next(t for t in tiers if t[0] is None or quantity <= t[0])
        return quantity * unit + flat
    cost, before = Fraction(0), Fraction(0)
    for up_to, unit, flat in tiers:
        part = (quantity if up_to is None else min(quantity, up_to)) - before
        if part <= 0:
            break
        cost += part * unit + flat
        before += part
    return cost


@dataclass
class Account:
    """What is open of a consumer's invoices, by the rules of allocation alone."""

    open: dict[int, Fraction] = field(default_factory=dict)
    due: dict[int, tuple[date, str]] = field(default_factory=dict)
    credit: dict[int, Fraction] = field(default_factory=dict)
    went: dict[int, dict[int | None, Fraction]] = field(
        default_factory=lambda: defaultdict(lambda: defaultdict(Fraction))
    )

    def book(self, entry: Row, number: str, due: date | None) -> None:
        """Have an entry do what its kind does."""
        amount, at = Fraction(entry["amount"]), entry["id"]
        if entry["kind"] == "invoice":
            invoice = entry["document_id"]
            self.open[invoice], self.due[invoice] = amount, (due or date.max, number)
            self._use_credit()
        elif entry["kind"] in ("payment", "credit note"):
            self.credit[at] = amount
            if entry["invoice_id"] is not None:
                self._close(at, entry["invoice_id"])
            self._use_credit()
        elif entry["kind"] == "write-off":
            self.open[entry["invoice_id"]] = Fraction(0)
        elif entry["kind"] == "refund":
            for each in sorted(self.credit):
                part = min(self.credit[each], amount)
                self.credit[each], amount = self.credit[each] - part, amount - part
            assert amount == 0
        else:
            for closed, part in self.went.pop(entry["returned_id"], {}).items():
                self.open[closed] += part
            self.credit[entry["returned_id"]] = Fraction(0)
            self._use_credit()

    def _use_credit(self) -> None:
        for invoice in sorted((i for i, left in self.open.items() if left), key=lambda i: self.due[i]):
            for each in sorted(self.credit):
                self._close(each, invoice)

    def _close(self, entry: int, invoice: int) -> None:
        part = min(self.credit[entry], self.open.get(invoice, Fraction(0)))
        self.credit[entry] -= part
        self.open[invoice] = self.open.get(invoice, Fraction(0)) - part
        of_entry = self.went.setdefault(entry, {})
        of_entry[invoice] = of_entry.get(invoice, Fraction(0)) + part
