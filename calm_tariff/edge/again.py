"""Routes that answer what a deadlock undid as if nothing had happened: they do it again."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine
from typing import Any

from fastapi import Request, Response
from fastapi.routing import APIRoute

from calm_tariff.core.errors import Deadlocked
from calm_tariff.services.base import retrying


class Again(APIRoute):
    """A route that is done again after a deadlock, where nothing of the request was kept yet."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        """The handler of requests."""
        answer = super().get_route_handler()

        async def handler(request: Request) -> Response:
            for attempts in range(retrying.ATTEMPTS):
                with retrying.attempt() as attempt:
                    try:
                        return await answer(request)
                    except Deadlocked:
                        if attempt.kept or attempts == retrying.ATTEMPTS - 1:
                            raise
                await asyncio.sleep(retrying.pause(attempts))
            raise AssertionError("the last attempt answers or raises")

        return handler
