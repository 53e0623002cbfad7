"""Today: what needs a person now, each with its one next action; and the counts in the course bar."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from urllib.parse import quote_plus

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.money import rounded
from calm_tariff.core.periods import HOUR, day_start, local_day, month_of, period_before
from calm_tariff.core.sentences import money
from calm_tariff.services.admit import letting_in, payment_pauses
from calm_tariff.services.admit.community import moderation
from calm_tariff.services.admit.desk import queue
from calm_tariff.services.base import jobs, mailing, own_notices
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.observe import allowances
from calm_tariff.services.observe.first_steps import FirstStep, first_steps
from calm_tariff.services.settle.accounts import aging, writing_off
from calm_tariff.services.settle.bank import views
from calm_tariff.services.settle.books import showing
from calm_tariff.services.settle.cards import disputes
from calm_tariff.services.settle.handoff import mapped
from calm_tariff.services.settle.periods import reckoning
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.compose.apis import ApiVersion
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, PlanDraft, Product
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.settle.money_documents import Invoice

ALMOST_SPENT = 80
# For so long a letter that could not be sent is told.
_TOLD = timedelta(days=7)


@dataclass(frozen=True, slots=True)
class Item:
    """Something that needs a person. `roles` says whose it is first."""

    title: str
    detail: str
    action: str
    link: str
    roles: list[str]


@dataclass(frozen=True, slots=True)
class Today:
    """One's own items first, then those of others; yesterday in a sentence; and the first steps of an installation that
    has served no call yet."""

    yours: list[Item]
    others: list[Item]
    yesterday: str
    first_steps: list[FirstStep]


@dataclass(frozen=True, slots=True, kw_only=True)
class Counts:
    """What stands beside the places and pages of the console. `unread` are one's own notices."""

    apis: int
    meters: int
    products: int
    waiting: int
    questions: int
    consumers: int
    near_the_end: int
    to_charge: int
    unpaid: int
    unmatched: int
    differing: int
    not_handed_on: int
    unread: int


def today(ctx: Context) -> Today:
    """The page of whoever is signed in."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        items = [*_requests(session, ctx), *_organisations(session), *_spent(session, ctx), *_refusals(session, ctx)]
        items += [*_periods(session, ctx), *_late(session, ctx), *_letters(session, ctx), *_jobs(session)]
        items += [
            *_unpaid(session, ctx),
            *_unmatched(session),
            *_disputed(session),
            *_differing(session),
            *_not_handed_on(session),
            *_write_offs(session, ctx),
            *_questions(session),
            *_drafts(session),
        ]
        yours = [i for i in items if ctx.actor.roles & set(i.roles)]
        others = [i for i in items if i not in yours]
        return Today(yours, others, _yesterday(session, ctx), first_steps(session, ctx))


def counts(ctx: Context) -> Counts:
    """Counts for the course bar and the index."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:

        def of(table: type) -> int:
            return session.scalar(select(func.count()).select_from(table)) or 0

        near = allowances.nearly_spent(session, ctx.now, ALMOST_SPENT)
        return Counts(
            apis=of(ApiVersion),
            meters=of(Meter),
            products=of(Product),
            waiting=queue.waiting(session),
            questions=sum(moderation.waiting(session)),
            consumers=of(Consumer),
            near_the_end=near,
            to_charge=len(_periods(session, ctx)),
            unpaid=len(aging.overdue(session, today_of(session, ctx))),
            differing=showing.differing(session),
            not_handed_on=mapped.to_map(session) + len(mapped.refused(session)),
            unmatched=views.waiting(session) + disputes.waiting(session),
            unread=own_notices.unread(ctx.joining(session)) if ctx.actor.person_id is not None else 0,
        )


def _requests(session: Session, ctx: Context) -> list[Item]:
    waiting = queue.waiting(session)
    if not waiting:
        return []
    first = queue.oldest_waiting(session, ctx.now)
    age = ctx.now - first.created_at if first else timedelta(0)
    since = f"{age.days} days" if age.days > 1 else f"{age // timedelta(hours=1)} hours"
    who = f"{first.consumer} asks for {first.product} · {first.plan}" if first else ""
    title = "One request waits on the desk" if waiting == 1 else f"{waiting} requests wait on the desk"
    return [Item(title, f"The oldest has waited {since}: {who}.", "Go to the desk", "/admit/desk", ["reviewer"])]


def _organisations(session: Session) -> list[Item]:
    """Those who signed up where a person lets new ones in."""
    waiting = letting_in.waiting(session)
    if not waiting:
        return []
    title = "One organisation waits to be let in" if waiting == 1 else f"{waiting} organisations wait to be let in"
    detail = "Until then they see what everybody sees, and can ask for nothing."
    return [Item(title, detail, "See who", "/admit/consumers?sort=state", ["reviewer", "product manager"])]


def _differing(session: Session) -> list[Item]:
    """Sums of the books that should be equal, and are not."""
    many = showing.differing(session)
    if not many:
        return []
    title = "Two sums of the books differ" if many == 1 else f"{many} sums of the books differ"
    detail = "What was recorded, counted, charged or booked does not agree; each is named down to the call."
    return [Item(title, detail, "See which", "/settle/books", ["finance", "operations"])]


def _not_handed_on(session: Session) -> list[Item]:
    """Usage of what is billed outside that waits for somebody to map it, or was refused there."""
    items = []
    missing, refused = mapped.to_map(session), mapped.refused(session)
    if missing:
        title = "One mapping to outside billing is missing" if missing == 1 else f"{missing} mappings are missing"
        detail = "Usage that is billed outside waits until its consumer and its plan are mapped."
        items.append(Item(title, detail, "Map them", "/settle/handoff", ["finance"]))
    if refused:
        who, why = refused[0]
        more = f", and that of {len(refused) - 1} more" if len(refused) > 1 else ""
        title = f"Outside billing refused usage of {who}{more}"
        items.append(Item(title, f"It says: {why}.", "See it", "/settle/handoff/events?state=refused", ["finance"]))
    return items


def _questions(session: Session) -> list[Item]:
    """What developers ask that nobody has answered, and what they reported."""
    unanswered, reported = moderation.waiting(session)
    items = []
    if unanswered:
        one = unanswered == 1
        title = "One question waits for an answer" if one else f"{unanswered} questions wait for an answer"
        detail = "Developers asked in the portal; nobody has answered yet."
        where = "/admit/questions?wanted=answer"
        items.append(Item(title, detail, "Read it" if one else "Read them", where, ["product manager", "operations"]))
    if reported:
        one = reported == 1
        title = "One question was reported" if one else f"{reported} questions were reported"
        detail = "Somebody says that it, or an answer to it, should not stand there."
        items.append(Item(title, detail, "Decide", "/admit/questions?wanted=decision", ["reviewer", "product manager"]))
    return items


def _spent(session: Session, ctx: Context) -> list[Item]:
    where = zone_of(session)
    items = []
    for g in allowances.running_out(session, ctx.now, ALMOST_SPENT, at_most=4):
        spent = g.spent_at.astimezone(where) if g.spent_at else None
        when = "It is spent." if g.percent >= 100 else f"At this pace it is spent on {spent:%-d %B}." if spent else ""
        items.append(
            Item(
                f"{g.consumer} has used {g.percent}% of its {g.name.lower()}",
                f"{g.product} · {g.plan}: {g.sentence}. {when}",
                f"Open {g.consumer}",
                f"/admit/consumers/{g.consumer_id}",
                ["operations", "product manager"],
            )
        )
    return items


def _refusals(session: Session, ctx: Context) -> list[Item]:
    """Consumers refused today far more than over the four weeks before."""
    where = zone_of(session)
    start = day_start(local_day(ctx.now_us, where), where)
    now_hour = ctx.now_us // HOUR * HOUR + HOUR
    here = usage_queries.verdicts_between(session, start // HOUR * HOUR, now_hour)
    before = usage_queries.verdicts_between(session, start - 28 * 24 * HOUR, start)
    unusual: dict[int, tuple[int, int]] = {}
    for consumer, calls in here.items():
        refused, usual = calls.get("refused", 0), before.get(consumer, {}).get("refused", 0) // 28
        if refused >= 20 and refused > 3 * usual:
            unusual[consumer] = refused, usual
    names = dict(session.execute(select(Consumer.id, Consumer.name).where(Consumer.id.in_(unusual))).all())
    return [
        Item(
            f"{names[consumer]} was refused {refused:,} times today",
            f"On a usual day it is {usual:,}.",
            "See the calls",
            f"/observe/traffic?consumer={consumer}&verdict=refused",
            ["operations"],
        )
        for consumer, (refused, usual) in unusual.items()
        if consumer in names  # calls of strangers are nobody's
    ]


def _periods(session: Session, ctx: Context) -> list[Item]:
    last = period_before(month_of(local_day(ctx.now_us, zone_of(session))))
    drafted = (Invoice.state == "draft") & (Invoice.period_start <= last.start)
    drafts = session.scalar(select(func.count()).where(drafted)) or 0
    any_invoice = session.scalar(select(func.count()).where(Invoice.period_start == last.start)) or 0
    where = zone_of(session)
    begin, end = day_start(last.start, where), day_start(last.end, where)
    used = session.scalar(select(Call.call_id).where(Call.at_us >= begin, Call.at_us < end).limit(1))
    items = []
    if used and not any_invoice:
        items.append(
            Item(
                f"{last.start:%B} is ready to charge",
                "It has ended and has no invoices yet.",
                f"Charge {last.start:%B}",
                f"/settle/periods/{last.start}",
                ["finance"],
            )
        )
    if drafts:
        first = session.scalar(select(func.min(Invoice.period_start)).where(drafted))
        one = drafts == 1
        items.append(
            Item(
                "One draft invoice waits to be issued" if one else f"{drafts} draft invoices wait to be issued",
                f"{'It' if one else 'They'} can be read and checked; nothing has been sent.",
                "Review it" if one else "Review them",
                f"/settle/periods/{first}",
                ["finance"],
            )
        )
    return items


def _late(session: Session, ctx: Context) -> list[Item]:
    """Usage that has arrived for periods already issued."""
    last = period_before(month_of(local_day(ctx.now_us, zone_of(session))))
    items = []
    for start, late in reckoning.months_with_late(session, last.start):
        who = list(dict.fromkeys(each.consumer for each in late))
        more = f" and {len(who) - 2} more" if len(who) > 2 else ""
        items.append(
            Item(
                f"Usage has arrived late for {start:%B}",
                f"{start:%B} is issued already; it concerns {', '.join(who[:2])}{more}, and is on no invoice yet.",
                "See what arrived",
                f"/settle/periods/{start}",
                ["finance"],
            )
        )
    return items


def _unpaid(session: Session, ctx: Context) -> list[Item]:
    """Consumers with invoices that were due and are not paid."""
    late = aging.overdue(session, today_of(session, ctx))
    if not late:
        return []
    currency = provider_of(session).currency
    most, amount = late[0]
    paused = len(payment_pauses.all_running(session))
    title = "One consumer is late with" if len(late) == 1 else f"{len(late)} consumers are late with"
    held_up = f" Calls of {'one' if paused == 1 else paused} are paused." if paused else ""
    detail = f"{most} most, with {money(rounded(amount, currency), currency)}.{held_up}"
    total = money(rounded(sum((each for _, each in late), Decimal(0)), currency), currency)
    return [Item(f"{title} {total}", detail, "See the accounts", "/settle/accounts", ["finance"])]


def _unmatched(session: Session) -> list[Item]:
    """What the bank said that no rule knows whose it is."""
    waiting = views.waiting(session)
    if not waiting:
        return []
    title = "One payment waits to be assigned" if waiting == 1 else f"{waiting} payments wait to be assigned"
    detail = f"The bank told of {'it' if waiting == 1 else 'them'}; no invoice is named with its amount."
    return [Item(title, detail, "Say whose", "/settle/payments", ["finance"])]


def _disputed(session: Session) -> list[Item]:
    """Payments by card that their owners dispute."""
    waiting = disputes.waiting(session)
    if not waiting:
        return []
    title = "A payment by card is disputed" if waiting == 1 else f"{waiting} payments by card are disputed"
    detail = "The money went back, and nothing is tried by itself meanwhile: answer the payment processor."
    return [Item(title, detail, "See which", "/settle/payments?show=card", ["finance"])]


def _write_offs(session: Session, ctx: Context) -> list[Item]:
    """What colleagues want to write off, and another one has to agree to."""
    waiting = writing_off.waiting(session, ctx)
    if not waiting:
        return []
    invoice_id, number = waiting[0]
    title = (
        "One invoice waits to be written off"
        if len(waiting) == 1
        else f"{len(waiting)} invoices wait to be written off"
    )
    detail = f"{number}{' first' if len(waiting) > 1 else ''}: a second person has to agree, and that can be you."
    return [Item(title, detail, f"Look at {number}", f"/settle/invoices/{invoice_id}", ["finance"])]


def today_of(session: Session, ctx: Context) -> date:
    """The local day."""
    return local_day(ctx.now_us, zone_of(session))


def _letters(session: Session, ctx: Context) -> list[Item]:
    """Letters of the last days that nobody got."""
    failed = mailing.set_aside_since(session, ctx.now - _TOLD)
    if not failed:
        return []
    title = "One letter could not be sent" if failed == 1 else f"{failed} letters could not be sent"
    where = f"/record?words={quote_plus(mailing.SET_ASIDE)}"
    detail = "Each is set aside with the reason; whoever it was for has not heard of it."
    return [Item(title, detail, "See to whom, and why", where, ["operations", "product manager"])]


def _jobs(session: Session) -> list[Item]:
    given_up = jobs.given_up(session)
    if not given_up:
        return []
    title = "One job was given up" if given_up == 1 else f"{given_up} jobs were given up"
    detail = "Each failed again and again, and is not tried again by itself."
    return [Item(title, detail, "See what failed", "/observe/gateways", ["operations", "product manager"])]


def _drafts(session: Session) -> list[Item]:
    query = select(Plan, PlanDraft).join(PlanDraft, PlanDraft.plan_id == Plan.id).order_by(PlanDraft.saved_at.desc())
    return [
        Item(
            f"{plan.product.name} · {plan.name} has a draft",
            f"Saved by {draft.saved_by}; nobody gets it yet.",
            "Open the tariff sheet",
            f"/compose/products/{plan.product_id}",
            ["product manager"],
        )
        for plan, draft in session.execute(query)
    ]


def _yesterday(session: Session, ctx: Context) -> str:
    where = zone_of(session)
    day = local_day(ctx.now_us, where) - timedelta(days=1)
    start, end = day_start(day, where), day_start(day + timedelta(days=1), where)
    sums = {"served": 0, "held": 0, "refused": 0}
    for calls in usage_queries.verdicts_between(session, start, end).values():
        for verdict, n in calls.items():
            sums[verdict] += n
    total = sum(sums.values())
    if not total:
        return "Yesterday no call was recorded."
    return (
        f"Yesterday {total:,} calls came: {sums['served']:,} served, {sums['held']:,} held, "
        f"{sums['refused']:,} refused."
    )
