"""The outside provider of identities that the house takes sign-ins from, and which roles its word gives."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from sqlalchemy.orm import Session

from calm_tariff.core import house, names
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.house import OWNER
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.base.sealing import Sealed, seal, unseal
from calm_tariff.services.house.signing_in import outside
from calm_tariff.services.house.signing_in.outside import Client
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.identities import HouseIdentityProvider

# Where the provider sends people back to.
BACK = "/signed-in"
ONLY = 1
# So many values of a claim may give roles.
MOST = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class HouseProviderTyped:
    """A provider by what people call it and by its issuer's address (OpenID Connect Discovery), and the client that the
    house is to it; without a secret, the one that was kept stays. With a `role_claim`, whoever signs in has the roles
    that its values give by `roles_by`, and whoever has none is not let in; without one, only those who work here sign
    in, with the roles they have."""

    name: str
    issuer: str
    client_id: str
    client_secret: str = ""
    role_claim: str = ""
    roles_by: Mapping[str, list[str]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class HouseProviderView:
    """The house's provider; `back` is the address that it must be told to send people back to. The rest is empty where
    there is none."""

    name: str
    issuer: str
    client_id: str
    role_claim: str
    roles_by: dict[str, list[str]]
    back: str


def of_house(ctx: Context) -> HouseProviderView:
    """The house's provider; for an owner of the house."""
    ctx.actor.must_be(OWNER)
    with ctx.reading() as session:
        return _view(ctx, session.get(HouseIdentityProvider, ONLY))


def name_of(session: Session) -> str:
    """What people call the house's provider; empty where there is none."""
    kept = session.get(HouseIdentityProvider, ONLY)
    return kept.name if kept else ""


def set_provider(ctx: Context, typed: HouseProviderTyped) -> HouseProviderView:
    """Have the house take sign-ins from a provider. Raises `Invalid`, naming the field, or `Conflict` where secrets
    cannot be kept."""
    ctx.actor.must_be(OWNER)
    name, client_id = names.plain(typed.name, "name"), names.plain(typed.client_id, "client_id")
    issuer = outside.checked_issuer(ctx, names.plain(typed.issuer, "issuer"))
    claim, roles_by = _gives_roles(typed)
    if not ctx.sealing_secret:
        raise Conflict("this installation keeps no secrets: it has no CALM_VALUE_SECRET", "client_secret")
    with ctx.transaction() as session:
        provider = provider_of(session)
        kept = locked(session, HouseIdentityProvider, ONLY)
        if kept is None and not typed.client_secret:
            raise Invalid("must not be empty", "client_secret")
        before = _told(kept)
        made = kept or HouseIdentityProvider(id=ONLY)
        made.name, made.issuer, made.client_id, made.role_claim, made.roles_by = (
            name,
            issuer,
            client_id,
            claim,
            roles_by,
        )
        if typed.client_secret:
            made.client_secret = seal(ctx.sealing_secret, typed.client_secret)
        session.add(made)
        session.flush()
        subject = ("provider", provider.id, provider.name)
        auditing.note(session, ctx, "changed through whom people sign in", subject, before=before, after=_told(made))
        return _view(ctx, made)


def remove(ctx: Context) -> None:
    """Take sign-ins from no outside provider any more."""
    ctx.actor.must_be(OWNER)
    with ctx.transaction() as session:
        provider = provider_of(session)
        kept = locked(session, HouseIdentityProvider, ONLY)
        if kept is not None:
            subject = ("provider", provider.id, provider.name)
            auditing.note(session, ctx, "changed through whom people sign in", subject, before=_told(kept))
            session.delete(kept)


def client(session: Session, ctx: Context) -> Client:
    """The house as the client of its provider. Raises `NotFound` where it has none, or its secret cannot be opened."""
    kept = session.get(HouseIdentityProvider, ONLY)
    if kept is None:
        raise NotFound("the house takes sign-ins from no outside provider", "provider")
    try:
        secret = unseal(ctx.sealing_secret, kept.client_secret)
    except Sealed:
        raise NotFound("the house cannot ask its provider at the moment", "provider") from None
    return Client(kept.issuer, kept.client_id, secret, ctx.web_address.rstrip("/") + BACK, kept.name)


def _gives_roles(typed: HouseProviderTyped) -> tuple[str, dict[str, list[str]]]:
    claim = typed.role_claim.strip()
    if not claim:
        return "", {}
    if not typed.roles_by or len(typed.roles_by) > MOST:
        raise Invalid(f"must say for 1 to {MOST} values which roles they give", "roles_by")
    given = {names.plain(value, "roles_by"): roles for value, roles in typed.roles_by.items()}
    return names.plain(claim, "role_claim"), {
        value: list(house.roles_of(roles, f"roles_by[{value}]")) for value, roles in given.items()
    }


def _told(kept: HouseIdentityProvider | None) -> dict[str, object] | None:
    if kept is None:
        return None
    told = {"name": kept.name, "issuer": kept.issuer, "client": kept.client_id}
    return {**told, "role claim": kept.role_claim, "roles by": kept.roles_by}


def _view(ctx: Context, kept: HouseIdentityProvider | None) -> HouseProviderView:
    return HouseProviderView(
        name=kept.name if kept else "",
        issuer=kept.issuer if kept else "",
        client_id=kept.client_id if kept else "",
        role_claim=kept.role_claim if kept else "",
        roles_by=kept.roles_by if kept else {},
        back=ctx.web_address.rstrip("/") + BACK,
    )
