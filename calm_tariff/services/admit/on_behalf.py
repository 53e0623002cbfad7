"""What the provider does for a consumer: its people by hand, and its own site for those who come there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.keys import Kind
from calm_tariff.core.membership import Role
from calm_tariff.core.meters import Environment
from calm_tariff.core.names import plain
from calm_tariff.core.payment import Payment
from calm_tariff.formats.addresses import mail_address
from calm_tariff.services.admit import applications, credentials, sign_up
from calm_tariff.services.admit.applications import ApplicationView
from calm_tariff.services.admit.credentials import KeyView, NewKey
from calm_tariff.services.admit.desk import asking, deciding
from calm_tariff.services.admit.desk.expectations import NOTHING
from calm_tariff.services.admit.desk.views import RequestView
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.base.secrets import NO_PASSWORD
from calm_tariff.services.house.signing_in import passwords, sessions
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.base.locking import locked

# Who makes and revokes keys for consumers.
HOLDERS = ("product manager", "reviewer", "operations")


@dataclass(frozen=True, slots=True, kw_only=True)
class ConsumerTyped:
    """An organisation with its owner, who came by a portal (None: the first)."""

    organisation: str
    name: str
    email: str
    portal_id: int | None = None


@dataclass(frozen=True, slots=True)
class ConsumerMade:
    """A consumer and its owner, by their ids."""

    consumer_id: int
    member_id: int


def make_consumer(ctx: Context, typed: ConsumerTyped, *, letter: bool = True) -> ConsumerMade:
    """Make an organisation's account, which is let in. Its owner has no password, and gets a letter to set one, or asks
    for it themselves. The caller answers for the address. Raises `NotFound`, or `Invalid` or `Conflict`, naming the
    field."""
    ctx.actor.must_be("reviewer", "product manager")
    with ctx.transaction() as session:
        if typed.portal_id is not None and session.get(Portal, typed.portal_id) is None:
            raise NotFound("there is no such portal", "portal_id")
        here = ctx.joining(session).acting(replace(ctx.actor, portal_id=typed.portal_id))
        chosen = SignUpTyped(name=typed.name, organisation=typed.organisation, password="")
        sign_up.open_account(here, typed.email, chosen, NO_PASSWORD)
        member = session.scalars(select(Member).where(Member.email == mail_address(typed.email))).one()
        sessions.end_all(session, MEMBERS, member.id)  # nobody has come in yet
        member.consumer.state = "let in"
        subject = ("consumer", member.consumer_id, member.consumer.name)
        auditing.note(session, ctx, "made an organisation's account", subject, after={"owner": member.email})
        if letter:
            passwords.write_to(session, ctx, replace(MEMBERS, at=member.at), member)
        return ConsumerMade(member.consumer_id, member.id)


def make_member(ctx: Context, consumer_id: int, name: str, email: str, role: Role, *, letter: bool = True) -> int:
    """Have somebody belong to a consumer, as a role; returns their id. They have no password, and get a letter to set
    one, or ask for it themselves. The caller answers for the address. Raises `NotFound`, or `Invalid` or `Conflict`,
    naming the field."""
    ctx.actor.must_be("reviewer", "product manager")
    name, email = plain(name, "name"), mail_address(email)
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        if session.scalar(select(Member.id).where(Member.email == email)):
            raise Conflict("somebody signs in with this address already", "email")
        made = Member(
            consumer_id=consumer.id,
            email=email,
            name=name,
            role=role,
            password_hash=NO_PASSWORD,
            joined_at=ctx.now,
        )
        session.add(made)
        session.flush()
        subject = ("consumer", consumer.id, consumer.name)
        auditing.note(session, ctx, "had somebody belong to an organisation", subject, after={email: role})
        if letter:
            passwords.write_to(session, ctx, replace(MEMBERS, at=made.at), made)
        return made.id


def make_application(ctx: Context, consumer_id: int, name: str, purpose: str = "") -> ApplicationView:
    """Register an application for a consumer. Raises `NotFound`, or `Invalid` or `Conflict`, naming the field."""
    ctx.actor.must_be("reviewer", "product manager")
    with ctx.transaction() as session:
        return applications.register(acting_for(session, ctx, consumer_id), name, purpose)


def make_key(
    ctx: Context, application_id: int, label: str, environment: Environment = "live", kind: Kind = "key"
) -> NewKey:
    """A key or secret for a consumer's application, of which those who run it are told. Raises `NotFound`, `Invalid`,
    naming the field."""
    ctx.actor.must_be(*HOLDERS)
    with ctx.transaction() as session:
        application = session.get(Application, application_id)
        if application is None:
            raise NotFound("there is no such application", str(application_id))
        own = acting_for(session, ctx, application.consumer_id)
        made = credentials.make_key(own, application_id, label, environment, kind)
        _tell(session, ctx, session.get_one(ApiKey, made.key.id), "made", "")
        return made


def revoke_key(ctx: Context, key_id: int, reason: str) -> KeyView:
    """Make a consumer's key invalid at once, and tell those who run its application why. Raises `NotFound`, `Conflict`
    for a dead one, and `Invalid` without a reason."""
    ctx.actor.must_be(*HOLDERS)
    reason = reason.strip()
    if not reason:
        raise Invalid("must say why; its members are told", "reason")
    with ctx.transaction() as session:
        key = session.get(ApiKey, key_id)
        if key is None:
            raise NotFound("there is no such key", str(key_id))
        view = credentials.revoke_key(acting_for(session, ctx, key.application.consumer_id), key_id, reason)
        _tell(session, ctx, key, "revoked", reason)
        return view


def subscribe(
    ctx: Context,
    application_id: int,
    plan_id: int,
    purpose: str,
    *,
    expected: Mapping[str, Decimal] = NOTHING,
    payment: Payment | None = None,
) -> RequestView:
    """Ask for a plan for an application and grant it, as far as one back end may: where two people decide, they still
    do, and what an outside desk decides is passed there. The caller answers for the terms of use, which count as
    accepted by the owner. Raises `NotFound`, or `Invalid` or `Conflict`, naming the field."""
    ctx.actor.must_be("reviewer", "product manager")
    with ctx.transaction() as session:
        application = session.get(Application, application_id)
        if application is None:
            raise NotFound("there is no such application", str(application_id))
        own = acting_for(session, ctx, application.consumer_id)
        asked = asking.ask(own, application_id, plan_id, purpose, True, expected=expected, payment=payment)
        return granted_where_one_may(session, ctx, asked)


def granted_where_one_may(session: Session, ctx: Context, asked: RequestView) -> RequestView:
    """Grant what was asked for somebody, where one who reviews is enough; else it goes on as it would."""
    if asked.state != "waiting" or asked.step != "reviewed" or not asked.last:
        return asked
    note = "Chosen at our own site." if ctx.actor.token_id is not None else ""
    return deciding.decide(ctx.joining(session), asked.id, "granted", note)


def _tell(session: Session, ctx: Context, key: ApiKey, done: str, note: str) -> None:
    fields = {"by": ctx.actor.name, "key": f"{key.prefix}…", "label": key.label, "application": key.application.name}
    notice = Notice(
        kind="key changed",
        fields={**fields, "done": done, "note": note},
        page=f"/applications/{key.application_id}",
    )
    told = subscribers.members_who_may(session, key.application.consumer_id, "run applications")
    notify(session, ctx, members(told), notice)


def acting_for(session: Session, ctx: Context, consumer_id: int) -> Context:
    """A context that acts for a consumer's owner, under a name that says who does so. Raises `NotFound`, or `Conflict`
    where nobody owns it."""
    consumer = session.get(Consumer, consumer_id)
    if consumer is None:
        raise NotFound("there is no such consumer", str(consumer_id))
    query = select(Member).where(Member.consumer_id == consumer_id, Member.role == "owner", Member.left_at.is_(None))
    owner = session.scalars(query.order_by(Member.id).limit(1)).first()
    if owner is None:
        raise Conflict("nobody owns this account", "consumer_id")
    acting = MEMBERS.acting(owner)
    name = f"{ctx.actor.name}, for {acting.name}"[:200]
    return ctx.joining(session).acting(replace(acting, name=name, behind=ctx.actor.identity))
