"""Events: what happens in the product, as outside systems hear of it. Each has a type, `topic.what`, by which whoever
listens chooses.

Whatever is on the record is an event as well. An entry of an action that has no type of its own is its topic's
`changed`, so that none is left out.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from datetime import timedelta
from typing import NamedTuple

from calm_tariff.core.errors import Invalid

EVERYTHING = "*"
CHANGED = "changed"
# So long an event is kept; a listener that is away for longer misses those before.
KEPT = timedelta(days=30)


class Thing(NamedTuple):
    """What an event or an entry of the record is about: its kind, its id and its name; and whose it is, where it is
    some consumer's."""

    kind: str
    id: int
    name: str
    consumer_id: int | None = None


# Kinds of things by their topic, where that is another word.
_TOPICS = {"API": "api", "provider": "house", "limits": "house_limits"}

# The types of a topic that an action of the record tells apart, by how the action begins.
_TOLD: Mapping[str, Mapping[str, tuple[str, ...]]] = {
    "request": {
        "made": ("asked for access", "asked to move"),
        "asked_back": ("asked back",),
        "answered": ("answered",),
        "commented": ("wrote about a request", "commented on a ticket"),
        "noted": ("wrote a note about a request",),
        "agreed": ("agreed to a request",),
        "handed_over": ("handed a request over",),
        "granted": ("granted a request",),
        "declined": ("declined a request",),
        "taken_back": ("took a request back",),
        "decision_undone": ("undid a decision",),
        "ticket_opened": ("opened ticket",),
        "desk_reminded": ("reminded the ticket desk",),
    },
    "subscription": {
        "started": (),
        "plan_changed": ("moved a subscription", "made a move that had come", "undid a move"),
        "paused": (),
        "resumed": (),
        "ended": (),
        "move_set": (),
        "move_taken_back": ("took a move back",),
        "trial_ended": ("ended a trial",),
        "limit_overridden": ("overrode a limit",),
        "override_lifted": ("lifted an override",),
    },
    "key": {
        "made": ("made a", "brought a key along", "brought a certificate"),
        "rotated": ("rotated a key",),
        "revoked": ("revoked a key",),
        "token_revoked": ("revoked a token",),
        "narrowed": ("narrowed a key",),
        "labelled": ("labelled a key",),
        "turned_away": ("was turned away",),
        "new_place": ("was used from a new place",),
    },
    "application": {"registered": ("registered an application",)},
    "consumer": {
        "signed_up": ("signed up", "made an organisation's account"),
        "let_in": ("let an organisation in",),
        "turned_away": ("turned an organisation away",),
        "suspended": ("suspended a consumer",),
        "resumed": ("resumed a consumer",),
        "closed": ("closed the account",),
        "merged": ("merged an organisation into another",),
        "payment_paused": ("paused a consumer for payment",),
        "payment_resumed": ("ended a pause for payment",),
        "took_in": ("took another organisation in",),
        "payment_said": ("said how it pays",),
        "card_kept": ("kept a card",),
        "card_removed": ("removed its card",),
        "member_invited": ("invited",),
        "noted": ("noted something", "took a note away"),
    },
    "member": {
        "joined": ("accepted an invitation",),
        "left": ("ended that somebody belongs to it",),
        "role_changed": ("changed a role",),
        "signed_in": ("signed in", "came in through"),
        "signed_out": ("signed out",),
        "turned_away": ("was turned away",),
    },
    "plan": {
        "added": ("added a plan",),
        "published": ("published revision",),
        "closed": ("set a plan closed",),
        "reopened": ("set a plan on sale",),
        "withdrawn": ("withdrew a plan", "set a plan withdrawn"),
    },
    "product": {
        "made": ("made a product",),
        "rated": ("rated a product",),
        "terms_accepted": ("accepted terms of use",),
    },
    "api": {
        "imported": ("brought in an OpenAPI document",),
        "gone": ("set an API gone",),
        "state_set": ("set an API",),
        "release_noted": ("wrote a release note",),
    },
    "meter": {"made": ("made a meter",), "sealed": ("sealed a meter",), "state_set": ("set a meter",)},
    "allowance": {"nearly_spent": (), "spent": ()},
    "alert": {"set": ("set an alert",), "taken_away": ("took an alert away",)},
    "invoice": {
        "issued": ("issued an invoice",),
        "nothing_due": ("kept an invoice as nothing due",),
        "paid": ("found an invoice paid",),
        "credited": ("found an invoice credited",),
        "written_off": ("found an invoice written off",),
        "open_again": ("found an invoice open again",),
        "overdue": ("found an invoice overdue",),
        "reminded": ("reminded of an invoice",),
    },
    "payment": {"received": ("booked a payment",), "returned": ("booked that a payment went back",)},
    "payment_attempt": {"made": ("had a card tried",), "failed": ("could not charge a card",)},
    "dispute": {"opened": ("heard of a dispute",), "ended": ("heard that a dispute",)},
    "usage_file": {"taken_in": ("took a file of usage in",), "recorded": ("recorded usage from elsewhere",)},
    "strike": {"made": ("struck calls out",), "undone": ("had struck calls count again",)},
    "bank_statement": {"brought_in": ("brought a bank statement in",)},
    "bank_entry": {
        "matched": ("matched a bank entry",),
        "assigned": ("assigned a bank entry",),
        "sent_back": ("sent a bank entry back",),
        "left_alone": ("left a bank entry alone",),
        "waits_again": ("had a bank entry wait again",),
    },
    "refund": {"made": ("booked a refund",)},
    "write_off": {
        "asked": ("asked to write an invoice off",),
        "made": ("wrote an invoice off",),
        "taken_back": ("took back to write an invoice off",),
    },
    "credit_note": {"issued": ("issued a credit note",)},
    "adjustment": {
        "made": ("adjusted an invoice",),
        "agreed": ("agreed to an adjustment",),
        "taken_back": ("took an adjustment back",),
    },
    "bundle": {"made": ("had documents put together",)},
    "books": {"looked_through": ("had the books looked through",), "differ": ("found a difference",)},
    "journal": {"closed": ("closed a month of the journal",)},
    "ledger_account": {},
    "outside_billing": {
        "began": ("had a product billed outside",),
        "ends": ("had a product billed here again",),
        "mapped": ("mapped",),
        "handed_on_again": ("had usage handed on again",),
        "heard": ("heard from outside billing",),
    },
    "charge_run": {"made": ("made a charge run",), "issued": ("issued the invoices of a month",)},
    "question": {"asked": ("asked a question",), "taken_back": ("took a question back",), "hidden": ("hid it",)},
    "answer": {"given": ("answered a question",), "taken_back": ("took an answer back",), "hidden": ("hid it",)},
    "portal": {"made": ("made a portal",), "taken_away": ("took a portal away",), "invited": ("invited",)},
    "group": {"made": ("made a group",)},
    "issuer": {"trusted": ("trusted an issuer",)},
    "house_limits": {},
    "tariff": {"applied": ("applied a tariff document",)},
    "house": {"settings_changed": ("changed the settings",), "invited": ("invited",)},
    "person": {
        "joined": ("accepted an invitation",),
        "signed_in": ("signed in", "came in through"),
        "signed_out": ("signed out",),
        "turned_away": ("was turned away",),
    },
    "service_token": {
        "made": ("made a service token",),
        "revoked": ("revoked a service token",),
        "new_place": ("was used from a new place",),
    },
    "signing_key": {"made": ("made a signing key",)},
    "letter": {"set_aside": ("could not send a letter",), "sent_again": ("had a letter sent again",)},
    "notice": {},
    "job": {"tried_again": ("had a job tried again",)},
    "endpoint": {"made": ("made an endpoint",), "taken_away": ("took an endpoint away",), "tested": ("sent a test",)},
}
# Goes to the endpoint that is tested, and to no other.
TESTED = "endpoint.tested"


def topic_of(kind: str) -> str:
    """The topic of things of a kind."""
    return _TOPICS.get(kind, kind.replace(" ", "_").replace("-", "_"))


def type_of(kind: str, action: str) -> str:
    """The type of the event that something was done, as the record calls it, to a thing of a kind."""
    topic = topic_of(kind)
    for what, beginnings in _TOLD.get(topic, {}).items():
        if action.startswith(beginnings):
            return f"{topic}.{what}"
    return f"{topic}.{CHANGED}"


def types() -> dict[str, list[str]]:
    """Every type there is, by topic."""
    return {topic: [f"{topic}.{what}" for what in (*told, CHANGED)] for topic, told in _TOLD.items()}


def chosen(texts: Iterable[str], field: str = "wants") -> list[str]:
    """What somebody wants to hear of: types, whole topics as `topic.*`, or everything as `*`; each once, in the order
    of `types`, and without what something wider among them holds. Raises `Invalid`, naming the field."""
    wanted = {text.strip() for text in texts}
    if not wanted:
        raise Invalid("choose at least one event", field)
    known = [EVERYTHING]
    for topic, of_topic in types().items():
        known += [f"{topic}.{EVERYTHING}", *of_topic]
    unknown = sorted(wanted - set(known))
    if unknown:
        raise Invalid(f"{unknown[0][:60]!r} is no event", field)
    if EVERYTHING in wanted:
        return [EVERYTHING]
    return [one for one in known if one in wanted and (_whole(one) == one or _whole(one) not in wanted)]


def wants(chosen: Collection[str], of_type: str) -> bool:
    """Whether an event of a type is among what was chosen."""
    return EVERYTHING in chosen or of_type in chosen or _whole(of_type) in chosen


def _whole(of_type: str) -> str:
    return f"{of_type.partition('.')[0]}.{EVERYTHING}"
