"""Looking through a month's drafts before they are issued: what is out of the ordinary first."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.documents import review as rules
from calm_tariff.core.billing.documents.review import Facts, Finding
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.periods import month_of, period_before
from calm_tariff.core.sentences.review import finding_in_words
from calm_tariff.formats.values import read, write
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.settle.documents.drafting import Drafted, Row
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.settle.money_documents import DraftReview, Invoice

ZERO = Decimal(0)
LONGEST_WHY = 500


@dataclass(frozen=True, slots=True, kw_only=True)
class DraftRow:
    """A draft as it is reviewed: what is out of the ordinary in words, with last month's subtotal beside its own. One
    that is `held` back, by whom and why, is not issued."""

    invoice_id: int
    consumer_id: int
    consumer: str
    subtotal: Decimal
    last_month: Decimal | None
    currency: str
    findings: list[str]
    held: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Drafts:
    """A page of a month's drafts, with what all of them come to before tax, how many are held back, and of what those
    that are not come to."""

    rows: list[DraftRow]
    next: str | None
    total: int
    subtotal: Decimal
    held: int
    to_issue: int
    to_issue_subtotal: Decimal


# What is furthest out of the ordinary comes first, without being asked.
_ORDERS = {
    "ordinary": -func.ifnull(DraftReview.weight, 0),
    "consumer": Consumer.name,
    "charge": Invoice.subtotal,
    "last month": func.ifnull(DraftReview.last_month, -1),
}


def drafts(ctx: Context, start: date, wanted: PageQuery) -> Drafts:
    """A page of a month's drafts. Orders: ordinary (what is least so first), consumer, charge, last month."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = _page(session, start, wanted)
        of_month = Invoice.period_start == start, Invoice.state == "draft"
        held = func.ifnull(DraftReview.held_by, "") != ""
        query = select(
            func.count(),
            func.ifnull(func.sum(Invoice.subtotal), 0),
            func.ifnull(func.sum(held), 0),
            func.ifnull(func.sum(func.if_(held, 0, Invoice.subtotal)), 0),
        ).outerjoin(DraftReview, DraftReview.document_id == Invoice.id)
        many, subtotal, back, to_issue = session.execute(query.where(*of_month)).one()
        return Drafts(
            rows=found.rows,
            next=found.next,
            total=found.total,
            subtotal=subtotal,
            held=int(back),
            to_issue=many - int(back),
            to_issue_subtotal=to_issue,
        )


def listed(ctx: Context, start: date, wanted: PageQuery) -> Page[DraftRow]:
    """The page alone, in the same orders."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _page(session, start, wanted)


def _page(session: Session, start: date, wanted: PageQuery) -> Page[DraftRow]:
    query = (
        select(
            Invoice.id,
            Invoice.consumer_id,
            Consumer.name,
            Invoice.subtotal,
            Invoice.currency,
            DraftReview.findings,
            DraftReview.last_month,
            DraftReview.held_by,
            DraftReview.held_why,
        )
        .join(Consumer, Consumer.id == Invoice.consumer_id)
        .outerjoin(DraftReview, DraftReview.document_id == Invoice.id)
        .where(Invoice.period_start == start, Invoice.state == "draft")
    )
    if wanted.words:
        query = query.where(Consumer.name.contains(wanted.words, autoescape=True))
    found = page(session, query, Invoice.id, _ORDERS, wanted)
    return replace(found, rows=[_row(*row) for row in found.rows])


def _row(
    invoice_id: int,
    consumer_id: int,
    consumer: str,
    subtotal: Decimal,
    currency: str,
    *review: object,
) -> DraftRow:
    findings, last_month, held_by, held_why = review
    kept = read(tuple[Finding, ...], findings or [])
    return DraftRow(
        invoice_id=invoice_id,
        consumer_id=consumer_id,
        consumer=consumer,
        subtotal=subtotal,
        last_month=last_month if isinstance(last_month, Decimal) else None,
        currency=currency,
        findings=[finding_in_words(each, currency) for each in kept],
        held=f"{held_by}: {held_why}" if held_by else "",
    )


def hold_back(ctx: Context, invoice_id: int, why: str) -> None:
    """Hold a draft back: it is not issued until somebody lets it go. Raises `NotFound`, `Invalid`, naming the field, or
    `Conflict` where it is issued."""
    ctx.actor.must_be("finance")
    why = why.strip()
    if not 1 <= len(why) <= LONGEST_WHY:
        raise Invalid(f"say why, in up to {LONGEST_WHY} characters", "why")
    _held(ctx, invoice_id, why)


def let_go(ctx: Context, invoice_id: int) -> None:
    """Have a draft issued with the others again. Raises `NotFound`, or `Conflict` where it is issued."""
    ctx.actor.must_be("finance")
    _held(ctx, invoice_id, "")


def _held(ctx: Context, invoice_id: int, why: str) -> None:
    with ctx.transaction() as session:
        draft = locked(session, Invoice, invoice_id)
        if draft is None:
            raise NotFound("there is no such invoice", str(invoice_id))
        if draft.state != "draft":
            raise Conflict(f"is {draft.state}", "invoice")
        if draft.review is None:
            draft.review = DraftReview(weight=0, findings=[])
        draft.review.held_by, draft.review.held_why = (ctx.actor.name, why) if why else ("", "")
        draft.review.held_at = ctx.now if why else None
        action = "held a draft invoice back" if why else "let a draft invoice go"
        subject = Thing("invoice", draft.id, f"{draft.consumer.name}, {draft.period_start:%B %Y}", draft.consumer_id)
        auditing.note(session, ctx, action, subject, why=why)


@dataclass(frozen=True, slots=True)
class Before:
    """What consumers were charged in the months before one, the latest first, by consumer; None where they were not."""

    months: dict[int, tuple[Decimal | None, ...]]

    def of(self, consumer_id: int) -> tuple[Decimal | None, ...]:
        """Of one consumer."""
        return self.months.get(consumer_id, (None,) * rules.MONTHS)


def before(session: Session, start: date, consumers: Collection[int]) -> Before:
    """The subtotals of consumers' invoices of the last months, of which nothing due is one of nothing."""
    starts = []
    period = month_of(start)
    for _ in range(rules.MONTHS):
        period = period_before(period)
        starts.append(period.start)
    query = select(Invoice.consumer_id, Invoice.period_start, Invoice.subtotal).where(
        Invoice.consumer_id.in_(consumers), Invoice.period_start.in_(starts), Invoice.state != "draft"
    )
    found: dict[int, dict[date, Decimal]] = {}
    for consumer, month, subtotal in session.execute(query):
        found.setdefault(consumer, {})[month] = subtotal
    return Before({c: tuple(of.get(month) for month in starts) for c, of in found.items()})


def looked_at_again(session: Session, draft: Invoice) -> None:
    """Write down anew what of a draft is out of the ordinary, where nothing but its adjustments is another."""
    if draft.review is None:
        draft.review = DraftReview(weight=0, findings=[])
    facts = _facts(
        draft.subtotal,
        before(session, draft.period_start, [draft.consumer_id]).of(draft.consumer_id),
        [(line.sort, line.amount) for line in draft.lines],
        pays=draft.consumer.payment_method is not None,
        arrived=sum((each.units for each in _kept(draft.review) if each.units is not None), ZERO),
    )
    found = rules.findings(facts, provider_of(session).review_percent)
    draft.review.weight, draft.review.findings = rules.weight(found), write(found)


def of_drafts(
    session: Session, start: date, drafts: Collection[Drafted], units_before: Mapping[int, Decimal]
) -> dict[int, Row]:
    """What of drafts of a period is out of the ordinary, as it is kept, by consumer. `units_before` are those of drafts
    that were computed before: what came since is still arriving."""
    whose = [each.consumer_id for each in drafts]
    earlier = before(session, start, whose)
    paying = select(Consumer.id).where(Consumer.id.in_(whose), Consumer.payment_method.is_not(None))
    pay = set(session.scalars(paying))
    percent = provider_of(session).review_percent
    found = {}
    for each in drafts:
        months, consumer = earlier.of(each.consumer_id), each.consumer_id
        facts = _facts(
            each.sums.subtotal,
            months,
            [(line["sort"], line["amount"]) for line in each.lines],
            pays=consumer in pay,
            arrived=_units(each) - units_before[consumer] if consumer in units_before else ZERO,
        )
        findings = rules.findings(facts, percent)
        found[consumer] = {"weight": rules.weight(findings), "findings": write(findings), "last_month": months[0]}
    return found


def _facts(
    subtotal: Decimal,
    months: Sequence[Decimal | None],
    lines: Sequence[tuple[str, Decimal]],
    *,
    pays: bool,
    arrived: Decimal,
) -> Facts:
    """What of a draft may be out of the ordinary, from the sorts and amounts of its `lines` and the `months` before."""
    return Facts(
        subtotal=subtotal,
        before=[amount for amount in months if amount is not None],
        nothing=not any(amount for _, amount in lines),
        pays=pays,
        adjusted=any(sort == "adjustment" for sort, _ in lines),
        arrived=arrived,
    )


def _units(of: Drafted) -> Decimal:
    """All units of the period's own lines of a draft."""
    return sum((line["quantity"] or ZERO for line in of.lines if line["sort"] == "own"), ZERO)


def _kept(review: DraftReview) -> tuple[Finding, ...]:
    return read(tuple[Finding, ...], review.findings)
