"""Cards that consumers pay by: given at the payment processor's own page, which keeps them; here is only what may be
said of one, and the token by which it is charged.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts.cards import Card
from calm_tariff.core.errors import Away, Conflict
from calm_tariff.core.payment import Payment
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import paying
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import SYSTEM, Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.base.processor import KeptCard, Processor
from calm_tariff.store.admit import merged, subscribers
from calm_tariff.store.admit.cards import CardPage, PaymentCard
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import all_locked, locked

# A page at which no card was given by then is looked at no more.
PAGE_LASTS = timedelta(days=1)
MOST_PAGES = 20


@dataclass(frozen=True, slots=True, kw_only=True)
class CardView:
    """A card that a consumer pays by: the last day on which it is good, who gave it, and whether it is good no more."""

    brand: str
    last_four: str
    good_until: date
    added_by: str
    added_at: datetime
    over: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class PageToGoTo:
    """Where one goes on to give a card."""

    address: str


def current(session: Session, consumer_id: int) -> PaymentCard | None:
    """The card that a consumer pays by, as it is now."""
    query = select(PaymentCard).where(PaymentCard.current == consumer_id)
    return session.scalar(query.execution_options(populate_existing=True))


def view(session: Session, ctx: Context, consumer_id: int) -> CardView | None:
    """The card that a consumer pays by, to be shown."""
    found = current(session, consumer_id)
    if found is None:
        return None
    card = card_of(found)
    return CardView(
        brand=card.brand,
        last_four=card.last_four,
        good_until=card.ends_on - timedelta(days=1),
        added_by=found.added_by,
        added_at=found.added_at,
        over=card.over(local_day(ctx.now_us, zone_of(session))),
    )


def own(ctx: Context) -> CardView | None:
    """The card that one's own organisation pays by."""
    owner = ctx.actor.consumer_to("see money")
    with ctx.reading() as session:
        return view(session, ctx, owner)


def card_of(stored: PaymentCard) -> Card:
    """What may be said of a card."""
    return Card(brand=stored.brand, last_four=stored.last_four, ends_on=stored.ends_on)


def begin(ctx: Context, processor: Processor | None) -> PageToGoTo:
    """Have a page at the processor's at which a card is given, and from there lead back to one's account. Raises
    `NotAllowed`, `Away`, or `Conflict` where cards are not taken, or too many were opened."""
    owner = ctx.actor.consumer_to("say how it pays")
    processor = _connected(processor)
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, owner)
        assert consumer is not None
        if len(_open_pages(session, ctx, owner)) >= MOST_PAGES:
            raise Conflict("was begun too often today; go on tomorrow", "giving a card")
        page = CardPage(consumer_id=owner, begun_by=ctx.actor.name, begun_at=ctx.now)
        session.add(page)
        session.flush()
        kept, back = page.id, f"{serving.address(ctx, consumer.portal)}/account?card=given"
    opened = processor.open_page(f"page-{kept}-{ctx.token()[:12]}", back)
    with ctx.transaction() as session:
        found = locked(session, CardPage, kept)
        assert found is not None
        found.page = opened.page
    return PageToGoTo(address=opened.address)


def finish(ctx: Context, processor: Processor | None) -> CardView | None:
    """Keep the card that was given at the last page which one opened, where one was: invoices are paid by it from now
    on. Returns the card that is paid by then. Raises `NotAllowed`, `Away`, or `Conflict` where cards are not
    taken."""
    owner = ctx.actor.consumer_to("say how it pays")
    processor = _connected(processor)
    with ctx.transaction() as session:
        pages = [page.page or "" for page in _open_pages(session, ctx, owner)]
    for page in pages:
        given(ctx, processor, page)
    with ctx.transaction() as session:
        return view(session, ctx, owner)


def given(ctx: Context, processor: Processor, page: str) -> bool:
    """Keep the card that was given at a page of the processor's, once; whether it was kept now. Raises `Away`."""
    found = processor.card_of(page)
    return found is not None and _keep(ctx.acting(SYSTEM), page, found)


def remove(ctx: Context, processor: Processor | None) -> None:
    """Pay by card no more: invoices are paid by transfer from now on, and the processor keeps the card no more; where
    there is none, nothing changes. Raises `NotAllowed`."""
    owner = ctx.actor.consumer_to("say how it pays")
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, owner)
        card = current(session, owner)
        if consumer is None or card is None:
            return
        token = card.token
        end(session, ctx, card)
        before = paying.of(consumer)
        if before is not None and before.method == "card":
            paying.keep(session, ctx, consumer, Payment(method="transfer", order_number=before.order_number))
        _tell(session, ctx, consumer, card_of(card), kept=False)
    if processor is not None:
        with contextlib.suppress(Away):  # nobody charges it any more
            processor.forget(token)


def end(session: Session, ctx: Context, card: PaymentCard) -> None:
    """Have a card be paid by no more."""
    card.ended_at = ctx.now
    session.flush()


def _keep(ctx: Context, page: str, kept: KeptCard) -> bool:
    with ctx.transaction() as session:
        found = session.scalar(select(CardPage).where(CardPage.page == page))
        if found is None:
            return False
        owner = merged.successors(session).get(found.consumer_id, found.consumer_id)
        (consumer,) = all_locked(session, Consumer, {owner})
        (found,) = all_locked(session, CardPage, {found.id})
        # The page of somebody who is merged now gives nobody else's card.
        if found.over_at is not None or owner != found.consumer_id:
            return False
        found.over_at = ctx.now
        before = current(session, owner)
        if before is not None:
            end(session, ctx, before)
        session.add(
            PaymentCard(
                consumer_id=owner,
                token=kept.token,
                brand=kept.card.brand,
                last_four=kept.card.last_four,
                ends_on=kept.card.ends_on,
                added_by=found.begun_by,
                added_at=ctx.now,
            )
        )
        session.flush()
        paid = paying.of(consumer)
        order_number = paid.order_number if paid is not None else ""
        paying.keep(session, ctx, consumer, Payment(method="card", order_number=order_number))
        subject, after = ("consumer", consumer.id, consumer.name), {"card": kept.card.in_words}
        auditing.note(session, ctx, "kept a card to pay by", subject, after=after, why=f"given by {found.begun_by}")
        _tell(session, ctx, consumer, kept.card, kept=True)
        return True


def _connected(processor: Processor | None) -> Processor:
    if processor is None:
        raise Conflict("are not taken here", "cards")
    return processor


def _open_pages(session: Session, ctx: Context, consumer_id: int) -> list[CardPage]:
    since = ctx.now - PAGE_LASTS
    mine = CardPage.consumer_id == consumer_id, CardPage.over_at.is_(None), CardPage.begun_at > since
    # One that the processor could not open is none.
    query = select(CardPage).where(*mine, CardPage.page.is_not(None)).order_by(CardPage.id)
    return list(session.scalars(query))


def _tell(session: Session, ctx: Context, consumer: Consumer, card: Card, *, kept: bool) -> None:
    if not kept:
        subject = ("consumer", consumer.id, consumer.name)
        auditing.note(session, ctx, "removed its card", subject, before={"card": card.in_words})
    fields = {"what": card.in_words, "who": consumer.name, "goes_on": kept}
    notice = Notice(kind="card changed", fields=fields, page="/account")
    notify(session, ctx, members(subscribers.members_who_may(session, consumer.id, "see money")), notice)
