"""The kinds of people who sign in: the provider's own, and consumers' members."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.base.notices import Recipient
from calm_tariff.store.house.people import Account

Kind = Literal["person", "member"]


@dataclass(frozen=True, slots=True)
class SignIn:
    """One of the sign-ins a demo offers."""

    email: str
    name: str
    role: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Realm:
    """One kind of people who sign in: how their accounts are found by address and by id, who each of them is when
    acting, whom a demo offers, and the pages on which another password is set and another address confirmed, below `at`
    where that is not the installation's address. An account that it does not take is as if it were not there. Where it
    `needs_factor`, whoever has no second factor sets one up before they do anything else."""

    kind: Kind
    by_email: Callable[[Session, str], Account | None]
    by_id: Callable[[Session, int], Account]
    acting: Callable[[Account], Actor]
    offered: Callable[[Session], list[SignIn]]
    reset_page: str
    address_page: str = "/address"
    at: str = ""
    takes: Callable[[Session, Account], bool] = lambda session, account: True
    needs_factor: Callable[[Session], bool] = lambda session: False

    def found(self, session: Session, email: str) -> Account | None:
        """The account of an address, where there is one."""
        account = self.by_email(session, email)
        return account if account is not None and self.takes(session, account) else None

    @property
    def column(self) -> str:
        """The column that says whose a session, a letter or a second factor is."""
        return f"{self.kind}_id"

    def me(self, ctx: Context) -> int:
        """The id of whoever acts. Raises `NotSignedIn` where they are of another kind, or nobody."""
        mine: int | None = getattr(ctx.actor, self.column)
        if mine is None:
            raise NotSignedIn("sign in first")
        return mine

    def recipient(self, account: Account, email: str = "") -> Recipient:
        """Somebody of this kind as one who is told, at another address of theirs where one is given."""
        member = self.kind == "member"
        return Recipient(
            email=email or account.email,
            name=account.name,
            at=self.at,
            member_id=account.id if member else None,
            person_id=None if member else account.id,
        )
