"""Who may ask a stand-in, and how it behaves when it is asked."""

from __future__ import annotations

import asyncio
import secrets
from typing import Annotated, Any, Protocol

from fastapi import Depends, Header, HTTPException


class Behaving(Protocol):
    """How a stand-in behaves: away, or slow."""

    away: bool
    seconds: float


class Asked(Protocol):
    """A stand-in that answers whoever has its secret."""

    secret: str

    @property
    def mood(self) -> Behaving:
        """How it behaves."""


def known(of: Asked, name: str) -> Any:
    """Lets those ask that have the secret of what is called `name`; 503 while it is away."""

    async def let_in(authorization: Annotated[str, Header()] = "") -> None:
        if of.mood.away:
            raise HTTPException(503, f"{name} is away")
        if of.mood.seconds:
            await asyncio.sleep(of.mood.seconds)
        if not secrets.compare_digest(authorization.encode(), f"Bearer {of.secret}".encode()):
            raise HTTPException(401, "ask with your key")

    return Depends(let_in)
