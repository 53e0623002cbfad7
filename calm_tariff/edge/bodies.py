"""Bodies that are read as they come, and not as JSON: on disk, where they are large."""

from __future__ import annotations

from collections.abc import AsyncIterator
from tempfile import SpooledTemporaryFile
from typing import Annotated, Any, BinaryIO, cast

from fastapi import Depends, Request

IN_MEMORY = 1_000_000


async def _body(request: Request) -> AsyncIterator[BinaryIO]:
    with SpooledTemporaryFile(max_size=IN_MEMORY) as file:
        async for chunk in request.stream():
            file.write(chunk)
        file.seek(0)
        yield cast(BinaryIO, file)


async def _whole(request: Request) -> bytes:
    return await request.body()


# What is signed as it is: all of a body, byte by byte.
WholeBody = Annotated[bytes, Depends(_whole)]

# To be asked for behind whoever asks: a stranger's body is not read.
Body = Annotated[BinaryIO, Depends(_body)]


def takes(*types: str) -> dict[str, Any]:
    """What a route says of the bodies it takes, by their media types."""
    content = {each: {"schema": {"type": "string"}} for each in types}
    return {"requestBody": {"required": True, "content": content}}
