"""What quotas have let in, by the counts that decide."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from hashlib import blake2b

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import DAY
from calm_tariff.store.serve.usage import QuotaCount


def digest(*parts: str) -> str:
    """A short name for what is too long to look up by."""
    return blake2b("\0".join(parts).encode(), digest_size=16).hexdigest()


def open_at(session: Session, now_us: int, scopes: Collection[str] | None = None) -> Iterator[QuotaCount]:
    """The counts whose window is open at an instant; of some scopes alone where these are named."""
    query = select(QuotaCount).where(QuotaCount.end_us > now_us, QuotaCount.begin_us <= now_us)
    if scopes is not None:
        query = query.where(QuotaCount.scope_place.in_({digest(scope) for scope in scopes}))
    yield from session.scalars(query)


def forget(session: Session, now_us: int) -> None:
    """Throw away what was counted in windows that are long over."""
    session.execute(delete(QuotaCount).where(QuotaCount.end_us < now_us - DAY))
