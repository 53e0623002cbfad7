"""Header fields that carry credentials: no limit counts by one, for what calls are counted by is recorded.

What the core knows to be a secret in every product (core.limits) is refused there. A product may name a header of its
own for its keys: then neither may a limit count by that header, nor may a product take one that a limit counts by.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime

from sqlalchemy import String, cast, func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.limits import HEADER, SECRET_HEADERS, Limit
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.store.admit import subscribers
from calm_tariff.store.compose.house_limits import HouseLimits
from calm_tariff.store.compose.products import Plan, PlanDraft, PlanRevision, Product

_HEADER = "header:"
# So many header fields may be recorded with each call.
MOST_KEPT = 20


def refuse_limits(session: Session, limits: Iterable[tuple[str, Limit]]) -> None:
    """Raise `Invalid` for a limit, each given with its place, that counts by a header in which a product takes keys."""
    by_header = [(where, limit, limit.counted_per.lower()) for where, limit in limits]
    by_header = [each for each in by_header if each[2].startswith(_HEADER)]
    if not by_header:
        return
    carrying = {f"{_HEADER}{p.key_header.lower()}": p.name for p in session.scalars(select(Product))}
    for where, limit, counted in by_header:
        if counted in carrying:
            header = limit.counted_per.removeprefix(_HEADER)
            raise Invalid(
                f"{header} carries the keys of {carrying[counted]}, which must not be kept: count per key",
                f"{where}.counted_per",
            )


def refuse_terms(session: Session, terms: PlanTerms) -> None:
    """The same for all limits of a plan's terms."""
    refuse_limits(
        session,
        ((f"{part}[{n}]", x) for part in ("limits", "overrides") for n, x in enumerate(getattr(terms, part))),
    )


def refuse_kept(session: Session, names: Sequence[str]) -> None:
    """Raise `Invalid` for a header field that is to be recorded with calls, each given in small letters, that is none
    or carries a credential; or for too many of them."""
    if len(names) > MOST_KEPT:
        raise Invalid(f"at most {MOST_KEPT} fit", "kept_headers")
    carrying = {p.key_header.lower() for p in session.scalars(select(Product))} | SECRET_HEADERS
    for name in names:
        if not HEADER.fullmatch(name):
            raise Invalid(f"{name!r} is no name of a header", "kept_headers")
        if name in carrying:
            raise Invalid(f"{name} carries credentials, which must not be kept", "kept_headers")


def refuse_header(session: Session, header: str, now: datetime) -> None:
    """Raise `Conflict` where some limit that holds, or is drafted, counts by a header that is to carry keys."""
    for owner, name, counted_per in _counting_by_header(session, now):
        if counted_per.lower() == f"{_HEADER}{header.lower()}":
            raise Conflict(f"{name!r} of {owner} counts by {header}; count it by something else first", "key_header")


def _counting_by_header(session: Session, now: datetime) -> Iterator[tuple[str, str, str]]:
    """Of whom a limit is, its name and what it counts per. The database chooses the few terms that have a header."""
    held = subscribers.revisions_held(now)
    newest = select(func.max(PlanRevision.id)).group_by(PlanRevision.plan_id)
    drafts = select(PlanDraft.plan_id, PlanDraft.terms).where(cast(PlanDraft.terms, String).contains(_HEADER))
    revisions = select(PlanRevision.plan_id, PlanRevision.terms).where(
        or_(PlanRevision.id.in_(held), PlanRevision.id.in_(newest)), cast(PlanRevision.terms, String).contains(_HEADER)
    )
    for plan_id, stored in (*session.execute(drafts), *session.execute(revisions)):
        plan, terms = session.get_one(Plan, plan_id), read(PlanTerms, stored)
        for limit in (*terms.limits, *terms.overrides):
            yield f"{plan.product.name} · {plan.name}", limit.name, limit.counted_per
    for house in session.scalars(select(HouseLimits)):
        yield from (("the limits above the plans", limit["name"], limit["counted_per"]) for limit in house.limits)
    for override in subscribers.limits_overridden(session, now):
        yield "an override", override["name"], override["counted_per"]


def check(key_header: str, key_query: str) -> None:
    """See that keys can come in a header and, where it is not empty, in a query parameter. Raises `Invalid`, naming the
    field."""
    if not _FIELD_NAME.fullmatch(key_header) or key_header.lower() in _TAKEN:
        raise Invalid("must be a header's name, and none that HTTP uses itself", "key_header")
    if key_query and not re.fullmatch(r"[A-Za-z0-9_.-]{1,40}", key_query):
        raise Invalid("must be up to 40 letters, digits, dots, dashes or underscores", "key_query")


_FIELD_NAME = re.compile(r"[A-Za-z0-9!#$%&'*+.^_`|~-]{1,100}")
_TAKEN = {
    "authorization",
    "connection",
    "content-length",
    "content-type",
    "cookie",
    "date",
    "expect",
    "host",
    "origin",
    "te",
    "trailer",
    "transfer-encoding",
    "upgrade",
}
