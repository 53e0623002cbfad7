"""Outside issuers whose signed tokens are credentials."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Literal, get_args

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.core.meters import Environment
from calm_tariff.services.base import auditing, reaching, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.issuers import OutsideIssuer

# Asymmetric ones only: with a shared secret, whoever can verify could also sign.
Algorithm = Literal["RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA"]
ALGORITHMS: tuple[str, ...] = get_args(Algorithm)


@dataclass(frozen=True, slots=True)
class IssuerTyped:
    """An issuer as somebody typed it: its `iss`, where its keys are, the audience its tokens must be for, the
    algorithms they may be signed by, and the claim that names the application by its client id."""

    name: str
    issuer: str
    jwks_url: str
    audience: str
    algorithms: Sequence[Algorithm] = ("RS256", "ES256")
    claim: str = "sub"
    environment: Environment = "live"
    trusted: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class IssuerView:
    """An issuer as kept. `edition` is its ETag."""

    id: int
    name: str
    issuer: str
    jwks_url: str
    audience: str
    algorithms: list[str]
    claim: str
    environment: str
    trusted: bool
    edition: int


def everything(ctx: Context) -> list[IssuerView]:
    """All issuers by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return [_view(i) for i in session.scalars(select(OutsideIssuer).order_by(OutsideIssuer.name))]


def add(ctx: Context, typed: IssuerTyped) -> IssuerView:
    """Trust another issuer. Raises `Invalid` or `Conflict`, naming the field."""
    ctx.actor.must_be("operations", "product manager")
    _check(ctx, typed)
    with ctx.transaction() as session:
        _refuse_twin(session, typed, None)
        made = OutsideIssuer(**_values(typed), edition=1)
        session.add(made)
        session.flush()
        auditing.note(session, ctx, "trusted an issuer", ("issuer", made.id, made.name), after=_values(typed))
        stamps.touch(session, ctx)
        return _view(made)


def save(ctx: Context, issuer_id: int, edition: int, typed: IssuerTyped) -> IssuerView:
    """Change an issuer, or trust it no more. Raises `NotFound`, `Stale`, `Invalid` or `Conflict`."""
    ctx.actor.must_be("operations", "product manager")
    _check(ctx, typed)
    with ctx.transaction() as session:
        issuer = locked(session, OutsideIssuer, issuer_id)
        if issuer is None:
            raise NotFound("there is no such issuer", str(issuer_id))
        if issuer.edition != edition:
            raise Stale("somebody else has changed this issuer meanwhile", issuer.name, _view(issuer))
        _refuse_twin(session, typed, issuer.id)
        before = asdict(_view(issuer))
        for name, value in _values(typed).items():
            setattr(issuer, name, value)
        issuer.edition += 1
        auditing.note(
            session, ctx, "changed an issuer", ("issuer", issuer.id, issuer.name), before=before, after=_values(typed)
        )
        stamps.touch(session, ctx)
        return _view(issuer)


def _check(ctx: Context, typed: IssuerTyped) -> None:
    for field in ("name", "issuer", "audience", "claim"):
        names.plain(getattr(typed, field), field)
    if reaching.parts(ctx, typed.jwks_url, "jwks_url").login is not None:
        raise Invalid("must hold no name and password: keys are public", "jwks_url")
    if not typed.algorithms or set(typed.algorithms) - set(ALGORITHMS):
        raise Invalid(f"must be some of {', '.join(ALGORITHMS)}", "algorithms")


def _refuse_twin(session: Session, typed: IssuerTyped, but: int | None) -> None:
    for other in session.scalars(select(OutsideIssuer).where(OutsideIssuer.id != (but or 0))):
        for field in ("name", "issuer"):
            if getattr(other, field) == getattr(typed, field):
                raise Conflict("is here already", field)


def _values(typed: IssuerTyped) -> dict[str, object]:
    return {**asdict(typed), "algorithms": list(typed.algorithms)}


def _view(i: OutsideIssuer) -> IssuerView:
    return IssuerView(
        id=i.id,
        name=i.name,
        issuer=i.issuer,
        jwks_url=i.jwks_url,
        audience=i.audience,
        algorithms=list(i.algorithms),
        claim=i.claim,
        environment=i.environment,
        trusted=i.trusted,
        edition=i.edition,
    )
