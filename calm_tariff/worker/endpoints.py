"""Sending events to the endpoints that want them."""

from __future__ import annotations

import time
from datetime import datetime

import httpx

from calm_tariff.edge import reaching
from calm_tariff.services.base.context import Context
from calm_tariff.services.house import telling
from calm_tariff.services.house.telling import Answered, Outgoing

PATIENCE = httpx.Timeout(5)
# After so long others come in between; what is left is sent in the next turn.
TURN_SECONDS = 15.0


class NotTaken(Exception):
    """An endpoint did not take an event."""


def tell(ctx: Context, endpoint_id: int) -> datetime | None:
    """Send an endpoint what it has not been told, in order; returns when to go on, where there is more. Raises
    `NotTaken` at the first event that it does not take."""
    begun = time.monotonic()
    with reaching.client(ctx.reach, timeout=PATIENCE) as client:
        while (wanted := telling.next_to_tell(ctx, endpoint_id)) is not None:
            answered = _sent(client, wanted)
            telling.keep(ctx, wanted, answered)
            if not answered.taken and answered.status != telling.GONE:
                raise NotTaken(answered.said)
            if time.monotonic() - begun > TURN_SECONDS:
                return ctx.now
    return None


def tell_again(ctx: Context, endpoint_id: int, event_id: int) -> None:
    """Send an endpoint one event once more. Raises `NotTaken`."""
    wanted = telling.to_tell_again(ctx, endpoint_id, event_id)
    if wanted is None:
        return
    with reaching.client(ctx.reach, timeout=PATIENCE) as client:
        answered = _sent(client, wanted)
    telling.keep(ctx, wanted, answered)
    if not answered.taken and answered.status != telling.GONE:
        raise NotTaken(answered.said)


def _sent(client: httpx.Client, wanted: Outgoing) -> Answered:
    """Send it. Of the answer no more is read than is kept: one that never ends holds up nothing."""
    begun, signed = time.monotonic(), wanted.signed
    try:
        with client.stream("POST", wanted.url, content=signed.body, headers=dict(signed.fields)) as answer:
            words = _beginning(answer)
            return Answered(status=answer.status_code, words=words, took_ms=_ms(begun))
    except httpx.TimeoutException:
        return Answered(status=None, words=f"did not answer within {PATIENCE.read:g} s", took_ms=_ms(begun))
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        words = str(error) or error.__class__.__name__
        return Answered(status=None, words=f"cannot be reached: {words}", took_ms=_ms(begun))


def _beginning(answer: httpx.Response) -> str:
    """The first words of an answer, as far as they come soon."""
    got, until = b"", time.monotonic() + (PATIENCE.read or 0)
    try:
        for part in answer.iter_bytes():
            got += part
            if len(got) >= telling.LONGEST_ANSWER or time.monotonic() > until:
                break
    except httpx.HTTPError:  # it broke off; its status stands
        pass
    words = got[: telling.LONGEST_ANSWER].decode("utf-8", "replace")
    return " ".join("".join(c if c.isprintable() else " " for c in words).split())


def _ms(begun: float) -> int:
    return round((time.monotonic() - begun) * 1000)
