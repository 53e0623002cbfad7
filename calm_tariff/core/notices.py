"""Notices: every kind of them, who gets it, what it can speak of, and what of it can be left out of the mail."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Literal, get_args

from calm_tariff.core.errors import Invalid

Kind = Literal[
    "invoice issued",
    "credit note issued",
    "payment received",
    "payment refunded",
    "payment returned",
    "payment failed",
    "card changed",
    "payment reminder",
    "paused for payment",
    "resumed after payment",
    "terms of use changed",
    "version ends",
    "plan changes",
    "plan moved",
    "subscription moved",
    "trial ends soon",
    "trial over",
    "limit changed",
    "request received",
    "request asked back",
    "request answered",
    "request goes on",
    "request handed over",
    "request message",
    "request granted",
    "request declined",
    "password forgotten",
    "account asked for",
    "account there already",
    "account invited",
    "account let in",
    "account turned away",
    "account closed",
    "account suspended",
    "account resumed",
    "organisations merged",
    "alert reached",
    "key expires soon",
    "key changed",
    "member invited",
    "member invited elsewhere",
    "member joined",
    "member left",
    "role changed",
    "address wanted",
    "sign-in changed",
    "question answered",
    "answer accepted",
    "post hidden",
    "colleague invited",
    "colleague joined",
    "colleague changed",
]
KINDS: tuple[Kind, ...] = get_args(Kind)

Group = Literal["plans", "keys", "requests", "invoices", "alerts", "members", "questions"]
# What somebody may not want by mail. The rest comes by mail in any case: it guards the account, or is asked for.
GROUPS: Mapping[Group, frozenset[Kind]] = {
    "plans": frozenset[Kind](
        {
            "terms of use changed",
            "version ends",
            "plan changes",
            "plan moved",
            "subscription moved",
            "trial ends soon",
            "trial over",
            "limit changed",
        }
    ),
    "keys": frozenset[Kind]({"key expires soon"}),
    "requests": frozenset[Kind](
        {
            "request received",
            "request asked back",
            "request answered",
            "request goes on",
            "request handed over",
            "request message",
            "request granted",
            "request declined",
        }
    ),
    "invoices": frozenset[Kind](
        {"invoice issued", "credit note issued", "payment received", "payment refunded", "payment returned"}
    ),
    "alerts": frozenset[Kind]({"alert reached"}),
    "members": frozenset[Kind]({"member joined", "member left", "role changed"}),
    "questions": frozenset[Kind]({"question answered", "answer accepted", "post hidden"}),
}

# Those of them that the provider's own people get.
OF_PEOPLE: frozenset[Group] = frozenset({"requests"})

# Who gets each kind.
_MEMBERS, _ASKED = "all members of the organisation", "whoever asked for it"
_MONEY = "owners and billing members of the organisation"
TO: Mapping[Kind, str] = {
    "invoice issued": _MONEY,
    "credit note issued": _MONEY,
    "payment received": _MONEY,
    "payment refunded": _MONEY,
    "payment returned": _MONEY,
    "payment failed": _MONEY,
    "card changed": _MONEY,
    "payment reminder": _MONEY,
    "paused for payment": _MEMBERS,
    "resumed after payment": _MEMBERS,
    "terms of use changed": "all members of organisations subscribed to the product",
    "version ends": "all members of organisations whose plans sell it",
    "plan changes": "all members of organisations on the plan",
    "plan moved": _MEMBERS,
    "subscription moved": _MEMBERS,
    "trial ends soon": _MEMBERS,
    "trial over": _MEMBERS,
    "limit changed": _MEMBERS,
    "request received": _ASKED,
    "request asked back": _ASKED,
    "request answered": "whoever has the request in hand, or wrote last",
    "request goes on": _ASKED,
    "request handed over": "the colleague to whom it is handed",
    "request message": _ASKED,
    "request granted": _ASKED,
    "request declined": _ASKED,
    "password forgotten": "the address of the account",
    "account asked for": "the address that was given",
    "account there already": "the address that was given",
    "account invited": "the address that is invited",
    "account let in": _MEMBERS,
    "account turned away": _MEMBERS,
    "account closed": _MEMBERS,
    "account suspended": _MEMBERS,
    "account resumed": _MEMBERS,
    "organisations merged": "all members of both organisations",
    "alert reached": "whoever set the alert, and the organisation's owners",
    "key expires soon": "developers and owners of the organisation",
    "key changed": "developers and owners of the organisation",
    "member invited": "the address that is invited",
    "member invited elsewhere": "the address that is invited",
    "member joined": "the organisation's owners",
    "member left": "the organisation's owners",
    "role changed": "the member whose role it is",
    "address wanted": "the new address",
    "sign-in changed": "the address of the account",
    "question answered": "whoever follows the question",
    "answer accepted": "whoever wrote the answer",
    "post hidden": "whoever wrote it",
    "colleague invited": "the address that is invited",
    "colleague joined": "owners of the house",
    "colleague changed": "the colleague",
}
# Without its link, a letter of these would be of no use.
_LINKED = frozenset[Kind](
    {
        "password forgotten",
        "account asked for",
        "account invited",
        "member invited",
        "address wanted",
        "colleague invited",
    }
)

# What notices can speak of, each with something made up: shown before a notice of the kind was ever sent. What is
# `terms` is Markdown of the provider's own.
EXAMPLES: Mapping[str, str | bool | list[str]] = {
    "name": "Ana Exemplo",
    "offer": "Harbour Data · Ketch",
    "product": "Harbour Data",
    "plan": "Ketch",
    "before": "Skiff",
    "application": "Timetable",
    "day": "1 October 2026",
    "changes": ["Rate: up to 20 at once → up to 40 at once", "Notes: none → For all."],
    "number": "2026-0007",
    "period": "September 2026",
    "total": "40.29",
    "currency": "EUR",
    "due": "14 October 2026",
    "paid": "by transfer, order number PO 7",
    "invoice": "INV-2026-00016",
    "reference": "RF32INV202600017",
    "iban": "PT50000201231234567890154",
    "closed": ["INV-2026-00016: 40.29"],
    "credit": "9.71",
    "reason": "Calls on 3 September were counted twice.",
    "version": "Tides v1",
    "goes_on": True,
    "limit": "Rate",
    "rule": "10 calls a second",
    "note": "Please name the source.",
    "by": "Bruno Exemplo",
    "portal": "The Pilot Room",
    "days": "14",
    "organisation": "Exemplo Boats",
    "other": "Exemplo Rafts",
    "said": "It is with a reviewer now.",
    "who": "Carla Exemplo",
    "role": "billing",
    "may": "Sees invoices.",
    "last": "November 2026",
    "what": "factor on",
    "key": "calmkey-live-7m3x…",
    "label": "server",
    "done": "revoked",
    "about": "80% of Forecast calls",
    "at": "on 3 September at 12:00:01",
    "follows": "Harbour Data · Schooner",
    "title": "Which datum?",
    "terms": "Be *fair*.",
    "roles": "reviewer and finance",
}
MARKED = frozenset({"terms"})


@dataclass(frozen=True, slots=True, kw_only=True)
class Words:
    """What a notice says, with its fields to be filled in (`{{ name }}`): its subject, its text, and its HTML, where
    that is not made from the text."""

    subject: str
    text: str
    html: str = ""


def kind_of(name: str) -> Kind | None:
    """The kind of a name, in which underscores stand for spaces."""
    return next((kind for kind in KINDS if kind.replace(" ", "_") == name), None)


def group_of(kind: Kind) -> Group | None:
    """The group that a kind of notice is of, where it is of one."""
    return next((group for group, kinds in GROUPS.items() if kind in kinds), None)


def check_link(kind: Kind, used: Mapping[str, Iterable[str]]) -> None:
    """Raise `Invalid`, naming the part, where a letter that must lead somewhere does not; `used` are the fields that
    each part of it speaks of."""
    if kind not in _LINKED:
        return
    for part, fields in used.items():
        if part != "subject" and "link" not in fields:
            raise Invalid("must hold {{ link }}: without it, this letter is of no use", part)
