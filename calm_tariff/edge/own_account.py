"""The routes by which people of one kind keep what guards their account: the mail address and the second factor. The
console has them for the provider's people, the portal for consumers' members."""

# Annotations are evaluated here: who asks depends on the cookie, which is known when the router is made.

from collections.abc import Callable
from typing import Annotated

from fastapi import APIRouter, Depends, Request
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import address_of, asking, context_of, same_origin
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import mail_addresses, second_factor
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.services.house.signing_in.second_factor import FactorBegun, FactorView, RecoveryCodes


class AddressWanted(BaseModel):
    """The mail address one wants instead, with the present password."""

    email: str = Field(max_length=1000)
    password: str = Field(max_length=1000)


class Letter(BaseModel):
    """The token of a letter."""

    token: str = Field(max_length=200)


class Address(BaseModel):
    """The address that letters go to."""

    email: str


class Password(BaseModel):
    """The present password."""

    password: str = Field(max_length=1000)


class Code(BaseModel):
    """A code that the program shows."""

    code: str = Field(max_length=40)


class PasswordAndCode(Password, Code):
    """The present password, and a code that the program shows or a recovery code."""


def router(realm_of: Callable[..., Realm], cookie: str) -> APIRouter:
    """The routes for one kind of people, which a dependency finds, and whose sessions are kept in that cookie."""
    made = APIRouter(tags=["session"], route_class=Again)
    asked = Annotated[Context, Depends(asking(cookie, realm_of))]
    people = Annotated[Realm, Depends(realm_of)]

    @made.get("/address")
    def address(realm: people, ctx: asked) -> Address:
        """The address that one's letters go to."""
        return Address(email=mail_addresses.own(ctx, realm))

    @made.put("/address", status_code=204)
    def want_address(request: Request, realm: people, ctx: asked, typed: AddressWanted) -> None:
        """Have a letter sent to another mail address, with which it becomes one's own. The answer is the same whether
        or not somebody has it."""
        mail_addresses.ask(ctx, realm, typed.email, typed.password, address_of(request))

    @made.post("/address/confirm", dependencies=[Depends(same_origin)])
    def confirm_address(request: Request, realm: people, typed: Letter) -> Address:
        """Change one's mail address by the token of a letter."""
        email = mail_addresses.confirm(context_of(request), realm, typed.token, address_of(request))
        return Address(email=email)

    @made.get("/second-factor")
    def factor(realm: people, ctx: asked) -> FactorView:
        """Whether one has a second factor."""
        return second_factor.state(ctx, realm)

    @made.post("/second-factor", status_code=201)
    def begin(request: Request, realm: people, ctx: asked, typed: Password) -> FactorBegun:
        """A secret for a program that makes codes (RFC 6238); it counts once a code of it was shown."""
        return second_factor.begin(ctx, realm, typed.password, address_of(request))

    @made.post("/second-factor/confirm")
    def confirm(request: Request, realm: people, ctx: asked, typed: Code) -> RecoveryCodes:
        """Turn the second factor on. The recovery codes are in this answer only."""
        return second_factor.confirm(ctx, realm, typed.code, address_of(request))

    @made.post("/second-factor/recovery-codes")
    def renew(request: Request, realm: people, ctx: asked, typed: PasswordAndCode) -> RecoveryCodes:
        """Other recovery codes, in this answer only."""
        return second_factor.renew(ctx, realm, typed.code, typed.password, address_of(request))

    @made.post("/second-factor/end", status_code=204)
    def end(request: Request, realm: people, ctx: asked, typed: PasswordAndCode) -> None:
        """Turn the second factor off."""
        second_factor.end(ctx, realm, typed.code, typed.password, address_of(request))

    return made
