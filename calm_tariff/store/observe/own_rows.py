"""What is a consumer's, table by table: the rows that are its own, or one of its members', which of their columns are
nobody's to read, and what becomes of them when the personal data in them is erased.

Tests hold every table of the schema to be here, to be among those that speak of consumers (`SPOKEN`), or to be known to
hold nothing of anybody's.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import ColumnElement, Select, Table, func, select, true
from sqlalchemy.sql.functions import concat

from calm_tariff.store.admit.applications import ApiKey, ApiKeyPlace, ApiKeyUse, Application, ApplicationBefore
from calm_tariff.store.admit.cards import CardPage, PaymentCard
from calm_tariff.store.admit.community import Answer, PostReport, Question, QuestionFollower, Rating
from calm_tariff.store.admit.consumers import (
    AwaitedSignUp,
    Consumer,
    ConsumerInGroup,
    ConsumerNote,
    ConsumerReference,
    Member,
    MemberInvitation,
    PaymentPause,
    Suspension,
)
from calm_tariff.store.admit.identities import MemberIdentity
from calm_tariff.store.admit.imports import ImportRow
from calm_tariff.store.admit.looking import LookedAs
from calm_tariff.store.admit.requests import AccessRequest, RequestAgreement, RequestMessage, TermsAccepted
from calm_tariff.store.admit.subscriptions import ComingMove, Pause, Stay, Subscription, SubscriptionOverride, TrialHad
from calm_tariff.store.base.columns import Base
from calm_tariff.store.base.events import Event
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.notices import Notice, NoticeChoice
from calm_tariff.store.base.record import IdempotentAnswer, Mail
from calm_tariff.store.house.endpoints import EventDelivery
from calm_tariff.store.house.identities import OutsideSignIn
from calm_tariff.store.house.people import (
    AddressChange,
    Passkey,
    PasskeyChallenge,
    PasswordReset,
    SecondFactor,
    SignedIn,
)
from calm_tariff.store.observe.alerts import Alert, AlertHook, AlertReached, AllowanceTold
from calm_tariff.store.serve.strikes import Strike
from calm_tariff.store.serve.usage import (
    Call,
    CallBodies,
    DailyUsage,
    DailyVerdicts,
    HourlyOutcomes,
    HourlyUsage,
    HourlyVerdicts,
    SetAside,
)
from calm_tariff.store.settle.accounts import AccountEntry, Allocation, Reminder, WriteOff
from calm_tariff.store.settle.bank import BankEntry
from calm_tariff.store.settle.card_attempts import CardRefund, Dispute, PaymentAttempt
from calm_tariff.store.settle.document_files import DocumentFile
from calm_tariff.store.settle.handoff import HandedUnits, OutsideCustomer, OutsideWord, SubscriptionPrice
from calm_tariff.store.settle.journal import Posting
from calm_tariff.store.settle.money_documents import Adjustment, DocumentTax, DraftReview, MoneyDocument, MoneyLine

# What keeps secrets, or is of use to nobody but us.
_OURS = {"key_hash", "token_hash", "token", "password_hash", "look", "shape", "undo", "grant", "way", "weight", "cause"}
# Who of the provider's people did something is theirs.
_PEOPLE = {"assigned_id", "decided_by", "settled_by", "suspended_by", "resumed_by", "told_outside", "reminded_at"}
HIDDEN = frozenset(_OURS | _PEOPLE)

GONE = "erased"
Mine = Callable[[int], ColumnElement[bool]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Own:
    """The rows of a table that are of a consumer, and those of a member, by their ids. When they are erased, the rows
    go, or stay with other words in some columns: those that `becomes` names. Of them those are handed out that
    `handed_out` says: none of what lets somebody in, nor of what the provider's people said among themselves."""

    table: Table
    of_consumer: Mine
    of_member: Mine | None = None
    becomes: Mapping[str, Any] | None = None
    handed_out: ColumnElement[bool] | None = field(default_factory=true)


def _table(of: type[Base]) -> Table:
    table = of.__table__
    assert isinstance(table, Table)
    return table


def _called(kind: str, of: type[Base]) -> concat:
    return func.concat(f"{GONE} {kind} ".replace("  ", " "), _table(of).c.id)


def members(consumer: int) -> Select[int]:
    """The ids of everybody who belongs, or belonged, to a consumer."""
    return select(Member.id).where(Member.consumer_id == consumer)


def applications(consumer: int) -> Select[int]:
    """The ids of a consumer's applications."""
    return select(Application.id).where(Application.consumer_id == consumer)


def keys(consumer: int) -> Select[int]:
    """The ids of a consumer's keys."""
    return select(ApiKey.id).where(ApiKey.application_id.in_(applications(consumer)))


def subscriptions(consumer: int) -> Select[int]:
    """The ids of a consumer's subscriptions."""
    return select(Subscription.id).where(Subscription.application_id.in_(applications(consumer)))


def documents(consumer: int) -> Select[int]:
    """The ids of a consumer's documents of money."""
    return select(MoneyDocument.id).where(MoneyDocument.consumer_id == consumer)


def entries(consumer: int) -> Select[int]:
    """The ids of the entries of a consumer's account."""
    return select(AccountEntry.id).where(AccountEntry.consumer_id == consumer)


def attempts(consumer: int) -> Select[int]:
    """The ids of attempts to take money from a consumer's cards."""
    return select(PaymentAttempt.id).where(PaymentAttempt.invoice_id.in_(documents(consumer)))


def requests(consumer: int) -> Select[int]:
    """The ids of what a consumer asked for."""
    return select(AccessRequest.id).where(AccessRequest.application_id.in_(applications(consumer)))


def _by(column: Any) -> tuple[Mine, Mine]:
    """Rows of whoever is a member by that column."""
    return lambda c: column.in_(members(c)), lambda m: column == m


def _in(column: Any, ids: Callable[[int], Select[Any]]) -> Mine:
    return lambda c: column.in_(ids(c))


def _is(column: Any) -> Mine:
    return lambda c: column == c


def _guard(of: type[Base]) -> Own:
    of_consumer, of_member = _by(of.member_id)  # type: ignore[attr-defined]
    return Own(table=_table(of), of_consumer=of_consumer, of_member=of_member, handed_out=None)


def _told(of: type[Notice] | type[NoticeChoice]) -> Own:
    member = of.audience == "member"
    return Own(
        table=_table(of),
        of_consumer=lambda c: member & of.audience_id.in_(members(c)),
        of_member=lambda m: member & (of.audience_id == m),
    )


def _acted(identity: Any) -> tuple[Mine, Mine]:
    """Rows of whoever acted as a member, by identity."""
    return (
        lambda c: identity.in_(select(func.concat("member ", Member.id)).where(Member.consumer_id == c)),
        lambda m: identity == f"member {m}",
    )


_POSTED, _POSTED_BY = _by(Question.member_id)
_ANSWERED, _ANSWERED_BY = _by(Answer.member_id)
_REPORTED_BY = _by(PostReport.member_id)[1]
_MINE, _ME = _by(Member.id)
_DONE, _DONE_BY = _acted(IdempotentAnswer.actor)

OWN: tuple[Own, ...] = (
    Own(table=_table(IdempotentAnswer), of_consumer=_DONE, of_member=_DONE_BY, handed_out=None),
    Own(
        table=_table(Consumer),
        of_consumer=_is(Consumer.id),
        becomes={
            "name": _called("consumer", Consumer),
            "order_number": "",
            "address": "",
            "tax_number": "",
            "tax_note": "",
        },
    ),
    Own(
        table=_table(Member),
        of_consumer=_MINE,
        of_member=_ME,
        becomes={"name": _called("member", Member), "email": _called("", Member), "password_hash": ""},
    ),
    Own(table=_table(ImportRow), of_consumer=_is(ImportRow.consumer_id), handed_out=None),
    Own(table=_table(ApplicationBefore), of_consumer=_is(ApplicationBefore.consumer_id), becomes={}),
    Own(table=_table(ConsumerReference), of_consumer=_is(ConsumerReference.consumer_id)),
    Own(table=_table(MemberInvitation), of_consumer=_is(MemberInvitation.consumer_id)),
    Own(table=_table(LookedAs), of_consumer=_is(LookedAs.consumer_id), handed_out=None),
    _guard(PasswordReset),
    _guard(PasskeyChallenge),
    _guard(AddressChange),
    _guard(MemberIdentity),
    _guard(SignedIn),
    _guard(SecondFactor),
    _guard(Passkey),
    _told(Notice),
    _told(NoticeChoice),
    Own(table=ConsumerInGroup, of_consumer=lambda c: ConsumerInGroup.c.consumer_id == c, becomes={}),
    Own(table=_table(ConsumerNote), of_consumer=_is(ConsumerNote.consumer_id), handed_out=None),
    Own(table=_table(Suspension), of_consumer=_is(Suspension.consumer_id), becomes={"reason": GONE}),
    Own(table=_table(TermsAccepted), of_consumer=_is(TermsAccepted.consumer_id), becomes={"member": GONE}),
    Own(table=_table(TrialHad), of_consumer=_is(TrialHad.consumer_id), becomes={}),
    Own(
        table=_table(Question),
        of_consumer=_POSTED,
        of_member=_POSTED_BY,
        becomes={"title": GONE, "text": GONE, "hidden_why": ""},
    ),
    Own(
        table=_table(Answer),
        of_consumer=_ANSWERED,
        of_member=_ANSWERED_BY,
        becomes={"signed": "", "text": GONE, "hidden_why": ""},
    ),
    Own(
        table=_table(PostReport),
        of_consumer=_is(PostReport.consumer_id),
        of_member=_REPORTED_BY,
        becomes={"reason": GONE},
    ),
    Own(
        table=_table(QuestionFollower),
        of_consumer=_by(QuestionFollower.member_id)[0],
        of_member=_by(QuestionFollower.member_id)[1],
    ),
    Own(table=_table(Rating), of_consumer=_is(Rating.consumer_id), becomes={}),
    Own(
        table=_table(Application),
        of_consumer=_is(Application.consumer_id),
        becomes={"name": _called("application", Application), "purpose": "", "contact": "", "tags": {}},
    ),
    Own(
        table=_table(AccessRequest),
        of_consumer=_in(AccessRequest.application_id, applications),
        becomes={"purpose": GONE, "note": ""},
    ),
    Own(
        table=_table(RequestMessage),
        of_consumer=_in(RequestMessage.request_id, requests),
        becomes={"text": GONE},
        handed_out=RequestMessage.inside.is_(False),
    ),
    Own(
        table=_table(RequestAgreement),
        of_consumer=_in(RequestAgreement.request_id, requests),
        becomes={"note": ""},
        handed_out=None,
    ),
    Own(table=_table(Subscription), of_consumer=_in(Subscription.application_id, applications), becomes={}),
    Own(table=_table(Stay), of_consumer=_in(Stay.subscription_id, subscriptions), becomes={}),
    Own(table=_table(Pause), of_consumer=_in(Pause.subscription_id, subscriptions), becomes={}),
    Own(table=_table(ComingMove), of_consumer=_in(ComingMove.subscription_id, subscriptions), becomes={}),
    Own(
        table=_table(SubscriptionOverride),
        of_consumer=_in(SubscriptionOverride.subscription_id, subscriptions),
        becomes={"reason": GONE},
    ),
    Own(
        table=_table(ApiKey),
        of_consumer=_in(ApiKey.application_id, applications),
        becomes={"label": GONE, "addresses": [], "tags": {}},
    ),
    Own(table=_table(ApiKeyUse), of_consumer=_in(ApiKeyUse.key_id, keys), becomes={"address": ""}),
    Own(table=_table(ApiKeyPlace), of_consumer=_in(ApiKeyPlace.secret_id, keys)),
    Own(
        table=_table(AlertReached),
        of_consumer=_in(AlertReached.alert_id, lambda c: select(Alert.id).where(Alert.consumer_id == c)),
        becomes={},
    ),
    Own(table=_table(Alert), of_consumer=_is(Alert.consumer_id), becomes={}),
    Own(table=_table(AllowanceTold), of_consumer=_in(AllowanceTold.subscription_id, subscriptions), becomes={}),
    Own(table=_table(AlertHook), of_consumer=_is(AlertHook.consumer_id), handed_out=None),
    Own(
        table=_table(Event),
        of_consumer=lambda c: Event.consumer_id == c,
        becomes={"subject": GONE, "actor": GONE, "said": GONE, "detail": {}},
        handed_out=None,
    ),
    Own(
        table=_table(MoneyDocument),
        of_consumer=_is(MoneyDocument.consumer_id),
        becomes={"order_number": "", "parties": None},
    ),
    Own(table=_table(MoneyLine), of_consumer=_in(MoneyLine.document_id, documents), becomes={}),
    # Written anew, to whom it is now, when somebody asks.
    Own(table=_table(DocumentFile), of_consumer=_in(DocumentFile.document_id, documents), handed_out=None),
    Own(table=_table(DocumentTax), of_consumer=_in(DocumentTax.document_id, documents), becomes={}),
    Own(
        table=_table(DraftReview),
        of_consumer=_in(DraftReview.document_id, documents),
        becomes={"held_why": ""},
        handed_out=None,
    ),
    Own(table=_table(Adjustment), of_consumer=_is(Adjustment.consumer_id), becomes={}, handed_out=None),
    Own(table=_table(Strike), of_consumer=_is(Strike.consumer_id), becomes={}, handed_out=None),
    Own(table=_table(AccountEntry), of_consumer=_is(AccountEntry.consumer_id), becomes={"reference": ""}),
    Own(table=_table(Allocation), of_consumer=_in(Allocation.entry_id, entries), becomes={}),
    Own(table=_table(Posting), of_consumer=_in(Posting.entry_id, entries), becomes={}, handed_out=None),
    Own(table=_table(Reminder), of_consumer=_in(Reminder.invoice_id, documents), becomes={}),
    Own(table=_table(WriteOff), of_consumer=_in(WriteOff.invoice_id, documents), becomes={}, handed_out=None),
    Own(table=_table(CardPage), of_consumer=_is(CardPage.consumer_id), handed_out=None),
    Own(
        table=_table(PaymentCard),
        of_consumer=_is(PaymentCard.consumer_id),
        becomes={"token": GONE, "last_four": "", "added_by": GONE},
    ),
    Own(
        table=_table(PaymentAttempt),
        of_consumer=_in(PaymentAttempt.invoice_id, documents),
        becomes={"planned_by": GONE},
        handed_out=None,
    ),
    Own(table=_table(CardRefund), of_consumer=_in(CardRefund.attempt_id, attempts), becomes={}, handed_out=None),
    Own(table=_table(Dispute), of_consumer=_in(Dispute.attempt_id, attempts), becomes={"reason": GONE}),
    Own(table=_table(OutsideCustomer), of_consumer=_is(OutsideCustomer.consumer_id), becomes={"name": ""}),
    Own(table=_table(SubscriptionPrice), of_consumer=_in(SubscriptionPrice.subscription_id, subscriptions), becomes={}),
    Own(table=_table(HandedUnits), of_consumer=_in(HandedUnits.subscription_id, subscriptions), becomes={}),
    Own(table=_table(OutsideWord), of_consumer=_is(OutsideWord.consumer_id), becomes={}, handed_out=None),
    Own(table=_table(PaymentPause), of_consumer=_is(PaymentPause.consumer_id), becomes={}),
    Own(
        table=_table(CallBodies),
        of_consumer=_in(CallBodies.call_id, lambda c: select(Call.call_id).where(Call.consumer_id == c)),
    ),
    Own(table=_table(Call), of_consumer=_is(Call.consumer_id), becomes={"sent": {}, "carried": {}}),
    Own(table=_table(HourlyUsage), of_consumer=_in(HourlyUsage.subscription_id, subscriptions), becomes={}),
    Own(table=_table(DailyUsage), of_consumer=_in(DailyUsage.subscription_id, subscriptions), becomes={}),
    Own(table=_table(HourlyOutcomes), of_consumer=_is(HourlyOutcomes.consumer_id), becomes={}),
    Own(table=_table(HourlyVerdicts), of_consumer=_is(HourlyVerdicts.consumer_id), becomes={}),
    Own(table=_table(DailyVerdicts), of_consumer=_is(DailyVerdicts.consumer_id), becomes={}),
)

# Where others' words may name a consumer or one of its members: what names them gives way there, wherever it stands.
SPOKEN: tuple[tuple[Table, tuple[str, ...]], ...] = (
    (_table(Notice), ("subject", "text", "fields")),
    (_table(Mail), ("subject", "body", "html", "failed")),
    (_table(Job), ("about", "arguments", "last_error")),
    (_table(IdempotentAnswer), ("answer",)),
    (_table(Event), ("subject", "actor", "said", "detail")),
    (_table(EventDelivery), ("answer",)),
    (_table(ImportRow), ("cells", "about", "said")),
    (_table(ConsumerNote), ("text",)),
    (_table(CardPage), ("begun_by",)),
    (_table(PaymentCard), ("added_by",)),
    (_table(PaymentAttempt), ("planned_by",)),
    (_table(CardRefund), ("asked_by",)),
    (_table(Dispute), ("reason",)),
    (_table(Suspension), ("reason",)),
    (_table(SubscriptionOverride), ("reason", "made_by", "lifted_by")),
    (_table(ComingMove), ("made_by",)),
    (_table(AccessRequest), ("purpose", "note", "decided_by", "grant", "undo", "expected")),
    (_table(RequestMessage), ("by", "text")),
    (_table(Question), ("title", "text", "hidden_why")),
    (_table(Answer), ("signed", "text", "hidden_why")),
    (_table(PostReport), ("reason",)),
    (_table(MemberInvitation), ("invited_by",)),
    (_table(TermsAccepted), ("member",)),
    (_table(AlertHook), ("set_by",)),
    (_table(MoneyDocument), ("evidence", "late_cases", "reason")),
    (_table(MoneyLine), ("words",)),
    (_table(Adjustment), ("words", "reason", "made_by", "agreed_by")),
    (_table(Strike), ("by", "why", "undone_by", "undone_why")),
    (_table(AccountEntry), ("reference", "reason", "made_by")),
    (_table(BankEntry), ("name", "text", "decided_by", "why")),
    (_table(WriteOff), ("reason", "made_by", "agreed_by")),
    (_table(OutsideWord), ("outcome",)),
    (_table(HandedUnits), ("refused_why",)),
    (_table(SetAside), ("differs",)),
)

# Rows that are somebody's by their mail address alone: they go with it.
ADDRESSED: tuple[tuple[Table, str], ...] = (
    (_table(Mail), "recipient"),
    (_table(AwaitedSignUp), "email"),
    (_table(MemberInvitation), "email"),
    (_table(OutsideSignIn), "email"),
    (_table(AddressChange), "email"),
)
