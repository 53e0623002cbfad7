"""On the way through an outside provider of identities: somebody is sent there with a state that their browser keeps,
and comes back with an answer, once. The house and each portal have their own provider."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from typing import TypeVar
from urllib.parse import urlsplit

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.formats.openid import Identity
from calm_tariff.services.base import reaching
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.identities import OutsideIdentity, OutsideSignIn

Kept = TypeVar("Kept", bound=OutsideIdentity)
WAITS = timedelta(minutes=10)


@dataclass(frozen=True, slots=True)
class Client:
    """The house or a portal as the client of its provider, with what opens it, where people are sent back to, and what
    people call the provider."""

    issuer: str
    client_id: str
    secret: str
    back: str
    provider: str


@dataclass(frozen=True, slots=True)
class Begun:
    """What a sign-in is begun with: whom to ask as which client, the state that comes back with the answer, and what
    proves that both are of one browser."""

    client: Client
    state: str
    nonce: str
    verifier: str


def begin(session: Session, ctx: Context, asked: Client, portal_id: int | None = None) -> Begun:
    """Send somebody on the way."""
    state, nonce, verifier = ctx.token(), ctx.token(), ctx.token()
    session.execute(delete(OutsideSignIn).where(OutsideSignIn.expires_at <= ctx.now))
    session.add(
        OutsideSignIn(
            state_hash=hash_token(state),
            portal_id=portal_id,
            issuer=asked.issuer,
            nonce=nonce,
            verifier=verifier,
            expires_at=ctx.now + WAITS,
        )
    )
    return Begun(asked, state, nonce, verifier)


def waiting(session: Session, ctx: Context, asked: Client, state: str, portal_id: int | None = None) -> Begun:
    """The sign-in that a state belongs to, whose answer has not come; it is good for one answer. Raises `NotFound`."""
    found = on_the_way(session, ctx, state, portal_id)
    if found.nonce == "" or asked.issuer != found.issuer:
        raise over()
    begun = Begun(asked, state, found.nonce, found.verifier)
    found.nonce = found.verifier = ""
    return begun


def came_back(found: OutsideSignIn, who: Identity) -> None:
    """Keep whom the provider named."""
    found.subject, found.email, found.name = who.subject, who.email.strip().lower()[:200], who.name[:200]


def checked_issuer(ctx: Context, typed: str) -> str:
    """A provider's issuer as it is kept. Raises `Invalid` where it may not be asked, or not safely."""
    issuer = typed.rstrip("/")
    if reaching.parts(ctx, issuer, "issuer").login is not None:
        raise Invalid("must hold no name and password", "issuer")
    parts = urlsplit(issuer)
    if parts.scheme != "https" and parts.hostname not in ("localhost", "127.0.0.1", "::1"):
        raise Invalid("must be an https address", "issuer")
    return issuer


def on_the_way(session: Session, ctx: Context, state: str, portal_id: int | None = None) -> OutsideSignIn:
    """Who is on the way with a state, held. Raises `NotFound`."""
    found = locked(session, OutsideSignIn, hash_token(state))
    if found is None or found.portal_id != portal_id or found.expires_at <= ctx.now:
        raise over()
    return found


def named(session: Session, ctx: Context, state: str, portal_id: int | None = None) -> OutsideSignIn:
    """Likewise, once the provider has named them. Raises `NotFound`."""
    found = on_the_way(session, ctx, state, portal_id)
    if found.subject is None:
        raise over()
    return found


def identity(session: Session, kept: type[Kept], of: OutsideSignIn) -> Kept | None:
    """Who was linked before to whom the provider named, among people or among members."""
    return session.scalar(select(kept).where(kept.issuer == of.issuer, kept.subject == of.subject))


def over() -> NotFound:
    """That a sign-in is over."""
    return NotFound("this sign-in was answered already, or waited too long; begin again", "state")
